"""What people read about requests: how a product's are decided, and where one stands."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from calm_tariff.core.routes import Agreement, Role, Route, Rule, Seat, Step, Way
from calm_tariff.core.sentences.listing import listed
from calm_tariff.core.sentences.terms import money, number

_DECIDED: Mapping[Step, str] = {
    "open": "granted at once",
    "reviewed": "reviewed",
    "reviewed twice": "reviewed by two people",
    "outside": "decided outside",
}
_WHO: Mapping[Seat, str] = {
    "review": "a reviewer",
    "product manager": "the product manager",
    "operations": "operations",
    "finance": "finance",
}


def route_in_words(
    route: Route, names: Mapping[str, Mapping[int, str]], meters: Mapping[str, str], currency: str
) -> list[str]:
    """How a product's requests are decided, rule by rule. `names` are those of `plans` and `groups` by id, `meters`
    those of meters by key."""
    said = [f"Requests {_about(rule, names, meters)} are {_DECIDED[rule.step]}." for rule in route.rules]
    said.append(f"{'All others' if said else 'Requests'} are {_DECIDED[route.otherwise]}.")
    return [*said, *(_agrees(each, currency) for each in route.agreements)]


def step_in_words(step: Step) -> str:
    """What becomes of a request, in a word or two."""
    return _DECIDED[step]


def seats_in_words(seats: Sequence[Seat]) -> str:
    """Whose agreement is needed: `a reviewer and finance`, `two reviewers`."""
    reviews = sum(seat == "review" for seat in seats)
    who = ["two reviewers" if reviews > 1 else _WHO["review"]] if reviews else []
    who += [_WHO[seat] for seat in seats if seat != "review"]
    return listed(who)


def way_in_words(way: Way) -> str:
    """How a request is decided, for who makes it; it stays so whatever the product's route becomes."""
    if way.at_once:
        return "It is granted at once."
    if not way.seats:
        return "It is decided in an outside system."
    people = {1: "One person decides", 2: "Two people decide", 3: "Three people decide"}.get(len(way.seats))
    after = ", and then an outside system." if way.step == "outside" else "."
    return f"{people or f'{len(way.seats)} people decide'}{after}"


def stands_in_words(state: str, left: Sequence[Seat], office: str, ticket: str | None, by: str) -> tuple[str, str]:
    """Where a request stands and what comes next, for the consumer: two sentences. `by` is the last day on which an
    answer is in time, in words, or nothing."""
    if state == "waiting":
        until = f", by the end of {by}" if by else ""
        decide = "Somebody there decides" if len(left) <= 1 else f"{len(left)} people there decide"
        return f"It waits for {office}.", f"{decide}{until}."
    if state == "asked back":
        return f"{office} has asked something.", "It goes on once you have answered."
    if state == "passed to outside":
        where = f"as ticket {ticket}" if ticket else "where a ticket is being opened for it"
        return f"It is decided at {office}'s ticket desk, {where}.", "Nothing is asked of you meanwhile."
    if state == "granted":
        return "It is granted.", "Make a key, and make the first call."
    if state == "declined":
        return "It is declined.", "You can ask again, for the same plan or another one."
    return "It was taken back.", "Nothing comes of it."


def granting_in_words(
    application: str, offer: str, left: Sequence[Seat], way: Way, *, moves_from: str | None, later: bool, free_days: int
) -> list[str]:
    """What happens when somebody who decides grants a request, of whose agreements `left` are missing before.
    `free_days` is how long a trial lasts that it begins with; one that moves a subscription is on `moves_from`."""
    if len(left) > 1:
        return [f"Yours is one agreement of several: it needs {seats_in_words(left)}.", "Nothing is granted before."]
    if way.step == "outside":
        return ["It is passed to the outside system, which decides."]
    if moves_from:
        when = "with the end of its trial or month" if later else "within a second"
        said = [f"{application} moves from {moves_from} to {offer} {when}."]
    else:
        said = [f"{application} may call {offer} within a second."]
    if free_days:
        said.append(f"It begins with {'a free day' if free_days == 1 else f'{free_days} free days'}.")
    return [*said, "For a minute it can be undone; then whoever asked is told by mail."]


def grant_in_words(plan: str | None, trial_days: int | None, override: str | None, until: str) -> list[str]:
    """What is granted otherwise than it was asked for: another plan, a trial of its own, a limit of its own in words,
    until the end of a day."""
    said = [f"{plan} in place of what was asked for"] if plan else []
    if trial_days is not None:
        said.append(f"free for the first {trial_days} days" if trial_days > 1 else "free for the first day")
    if override:
        said.append(f"with {override} until the end of {until}")
    return said


def _about(rule: Rule, names: Mapping[str, Mapping[int, str]], meters: Mapping[str, str]) -> str:
    said = []
    if rule.plans:
        plans = [names["plans"].get(each, "a plan that is gone") for each in rule.plans]
        said.append(f"for {listed(plans, 'or')}")
    if rule.groups:
        groups = [names["groups"].get(each, "a group that is gone") for each in rule.groups]
        said.append(f"by consumers of {listed(groups, 'or')}")
    if rule.environment is not None:
        sandbox = rule.environment == "sandbox"
        said.append("of applications for the sandbox alone" if sandbox else "of live applications")
    if rule.meter is not None and rule.above is not None:
        meter = meters.get(rule.meter, rule.meter)
        said.append(f"that expect more than {number(rule.above)} {meter[:1].lower()}{meter[1:]} a month")
    return " ".join(said)


def _agrees(agreement: Agreement, currency: str) -> str:
    who = _role(agreement.role)
    if agreement.above is None:
        return f"{who} must agree as well."
    return f"{who} must agree as well where more than {money(agreement.above, currency)} a month is expected."


def _role(role: Role) -> str:
    return {"product manager": "A product manager", "operations": "Operations", "finance": "Finance"}[role]
