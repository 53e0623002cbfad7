"""What the demo's developers ask about the office's data, and how they rate it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime, timedelta

from calm_tariff.demo.owners import owner_of
from calm_tariff.services.admit.community import moderation, questions, ratings
from calm_tariff.services.base.context import Actor, Context

OFFICE = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class _Asked:
    """A question: so many days ago, about which product, by whom; its answers with who wrote each (nobody: the office)
    and so many hours later; the one that helped; and what was reported of it, by whom, where something was."""

    days: int
    slug: str
    by: str
    title: str
    text: str
    answers: tuple[tuple[str, int, str], ...] = ()
    helped: int | None = None
    reported: tuple[str, int, str] | None = None


ASKED = (
    _Asked(
        days=41,
        slug="harbour-data",
        by="Quayside Freight",
        title="Which datum are the heights measured from?",
        text="We compare heights with soundings of our own. Are the heights of `/stations/{id}/tides` above chart "
        "datum, or above mean sea level?",
        answers=(
            ("Gannet Ferries", 5, "Chart datum, we think: our pier tables agree to a centimetre."),
            (
                OFFICE,
                25,
                "Above **chart datum** of the station. Each station says how far that lies below mean sea level, as "
                "`datum_offset_m`; add it to compare with levels of your own.",
            ),
        ),
        helped=1,
    ),
    _Asked(
        days=23,
        slug="harbour-data",
        by="Driftline Apps",
        title="How long may we keep predictions on a phone?",
        text="People open Beach Clock without a signal. May the app keep the tides of the next days, and for how long?",
        answers=(
            (OFFICE, 6, "As long as you like; predictions change a few times a year. Ask again after thirty days."),
        ),
    ),
    _Asked(
        days=16,
        slug="harbour-data",
        by="Cormorant Charters",
        title="Slack water in one call?",
        text="We only need the two moments of slack water of a day at one station. Is there an operation for that, or "
        "do we derive it from heights?",
        answers=(
            (
                "Driftline Apps",
                3,
                "We take heights every ten minutes and look for the turn:\n\n"
                "1. ask for the day with `step_minutes=10`\n2. find where the difference changes its sign",
            ),
            ("Fathom & Field", 27, "Buy our list of slack waters instead, much cheaper: https://slack.example/list"),
        ),
        reported=("Gannet Ferries", 1, "This sells something and answers nothing."),
    ),
    _Asked(
        days=2,
        slug="harbour-data",
        by="Thornhithe Harbour",
        title="Does a held berth count as free?",
        text="`free` of a harbour went down when somebody held a berth. Is it meant to?",
    ),
    _Asked(
        days=9,
        slug="sea-watch",
        by="Gannet Ferries",
        title="What does a buoy answer in a storm?",
        text="Last winter one buoy answered nothing for two hours. Does it say so, or are the values old ones?",
        answers=((OFFICE, 5, "It says `observed_at`. If that is more than an hour old, take the area's summary."),),
        helped=0,
    ),
)
# By product: the organisation, and what it gives of five.
RATED = {
    "harbour-data": (
        ("Gannet Ferries", 5),
        ("Driftline Apps", 4),
        ("Saltmarsh Kayak Club", 5),
        ("Pelorus Cover", 3),
        ("Quayside Freight", 4),
        ("Fathom & Field", 2),
        ("Thornhithe Harbour", 5),
        ("Cormorant Charters", 4),
    ),
}


def let_them_talk(ctx: Context) -> None:
    """Have it asked, answered, accepted, reported and rated, each when it was."""
    for asked in ASKED:
        then = ctx.now - timedelta(days=asked.days)
        made = questions.ask(_at(ctx, asked.by, then), asked.slug, asked.title, asked.text)
        answers = []
        for who, hours, text in asked.answers:
            at = _at(ctx, who, then + timedelta(hours=hours))
            if who == OFFICE:
                answers.append(moderation.answer(at, made.id, text).answers[-1].id)
            else:
                answers.append(questions.answer(at, made.id, text).answers[-1].id)
        if asked.helped is not None:
            questions.accept(_at(ctx, asked.by, then + timedelta(days=2)), made.id, answers[asked.helped])
        if asked.reported is not None:
            who, which, why = asked.reported
            questions.report(_at(ctx, who, then + timedelta(days=3)), made.id, answers[which], why)
    for slug, given in RATED.items():
        for days, (who, stars) in enumerate(given):
            ratings.rate(_at(ctx, who, ctx.now - timedelta(days=60 - 7 * days)), slug, stars)


def _at(ctx: Context, who: str, moment: datetime) -> Context:
    at = replace(ctx, clock=lambda: moment)
    return at.acting(Actor("Tomas", frozenset({"operations"}))) if who == OFFICE else owner_of(at, who)
