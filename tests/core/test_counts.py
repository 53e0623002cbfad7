"""Whose count, and since when: a count's name is what decides whether it goes on."""

from dataclasses import replace

from calm_tariff.core.counts import Before, History, Override, house_name, names_of, plain_names, stretches
from calm_tariff.core.limits import Limit, Quota, Rate, Window
from calm_tariff.core.stays import Stay
from calm_tariff.core.terms import PlanTerms

MONTH = Quota(
    name="Month",
    counted_per="subscription",
    units=100,
    every="month",
    aligned="calendar",
    when_spent="refuse",
    meter="calls",
)
OURS = replace(MONTH, name="Ours", counted_per="consumer")
ALL = replace(MONTH, name="All", counted_per="everyone")
RATE = Rate(name="Rate", counted_per="key", calls=10, per_seconds=1, burst=20)
# Revisions 1 to 3 are of plan 1, revision 9 is of plan 2.
PLANS = {1: 1, 2: 1, 3: 1, 9: 2}


def stays(*parts: tuple[int, int]) -> tuple[Stay, ...]:
    """Stays as (start, revision), each until the next begins."""
    ends = [start for start, _ in parts[1:]]
    return tuple(
        Stay(id=n, revision_id=revision, start_us=start, end_us=end)
        for n, ((start, revision), end) in enumerate(zip(parts, [*ends, None], strict=True), 1)
    )


def history(*parts: tuple[int, int], subscription: int = 1, application: int = 1, consumer: int = 1, **more) -> History:
    return History(
        subscription_id=subscription,
        application_id=application,
        consumer_id=consumer,
        started_us=parts[0][0],
        stays=stays(*parts),
        **more,
    )


def named(limit: str, terms: dict[int, tuple[Limit, ...]], *histories: History) -> list[str | None]:
    """A limit's count in every stretch, in the order they begin."""
    of = {revision: PlanTerms(limits=limits) for revision, limits in terms.items()}
    found = names_of(histories, PLANS, of)
    return [found[place].get(limit) for place in sorted(found, key=lambda p: (p[1], p[0]))]


def test_a_limit_that_a_revision_only_changes_keeps_its_count() -> None:
    more = replace(MONTH, units=500, when_spent="charge", applies_to=("GET /a",))
    before, after = named("Month", {1: (MONTH,), 2: (more,)}, history((0, 1), (50, 2)))
    assert before == after == "1/Month/quota/month//calls/subscription"
    # One that changes its window, its meter, its kind or whose count it is begins at nothing.
    for other in (
        replace(MONTH, every="day"),
        replace(MONTH, meter="bytes"),
        replace(MONTH, counted_per="key"),
        replace(MONTH, aligned="subscription"),
        replace(RATE, name="Month"),
        Window(name="Month", counted_per="subscription", calls=9, per_seconds=60, rolling=True),
    ):
        before, after = named("Month", {1: (MONTH,), 2: (other,)}, history((0, 1), (50, 2)))
        assert before != after


def test_a_limit_that_goes_and_comes_again_begins_at_nothing() -> None:
    first, gone, again = named("Month", {1: (MONTH,), 2: (RATE,), 3: (MONTH,)}, history((0, 1), (50, 2), (90, 3)))
    assert gone is None and again == f"{first}@90"


def test_an_override_in_the_plans_place_goes_on_and_another_begins() -> None:
    laxer = Override(limit=replace(MONTH, units=900), start_us=20, end_us=40)
    assert len(set(named("Month", {1: (MONTH,)}, history((0, 1), overrides=(laxer,))))) == 1
    extra = replace(MONTH, name="Extra")
    own = (Override(limit=extra, start_us=20, end_us=40), Override(limit=extra, start_us=60, end_us=80))
    before, during, between, again, _ = named("Extra", {1: (MONTH,)}, history((0, 1), overrides=own))
    assert (before, between) == (None, None) and again == f"{during}@60"
    # One of another window takes the plan's limit away, which begins at nothing when it is back.
    daily = Override(limit=replace(MONTH, every="day"), start_us=20, end_us=40)
    plans, others, back = named("Month", {1: (MONTH,)}, history((0, 1), overrides=(daily,)))
    assert len({plans, others, back}) == 3


def test_over_a_move_of_plan_a_quota_takes_its_count_along() -> None:
    renamed = replace(MONTH, name="Calls", units=9000)
    terms = {1: (MONTH, RATE), 9: (renamed, RATE)}
    old = named("Month", terms, history((0, 1), (50, 9)))[0]
    assert named("Calls", terms, history((0, 1), (50, 9))) == [None, old]
    assert len(set(named("Rate", terms, history((0, 1), (50, 9))))) == 2  # no allowance
    assert named("Calls", terms, history((0, 1), (50, 9), anew=True))[1] != old  # the product says so
    for other in (replace(renamed, every="day"), replace(renamed, meter=None), replace(renamed, applies_to=("a",))):
        assert named("Calls", {1: (MONTH,), 9: (other,)}, history((0, 1), (50, 9)))[1] != old


def test_of_two_alike_the_one_of_the_same_name_is_taken_along() -> None:
    twin = replace(MONTH, name="Another")
    found = named("Month", {1: (twin, MONTH), 9: (MONTH, twin)}, history((0, 1), (50, 9)))
    assert found[0] == found[1]


def test_a_subscription_of_its_own_begins_at_nothing() -> None:
    first = replace(history((0, 1)), stays=(Stay(id=1, revision_id=1, start_us=0, end_us=40),))
    second = history((60, 1), subscription=2)
    before, after = named("Month", {1: (MONTH,)}, first, second)
    assert after == f"{before}@60"


def test_a_consumers_count_is_one_over_all_its_applications() -> None:
    terms = {1: (OURS, ALL), 2: (OURS, ALL), 9: (OURS,)}
    one, two = history((0, 1), (50, 2)), history((20, 1), subscription=2, application=2)
    assert len(set(named("Ours", terms, one, two))) == 1
    # One application moves: the other still adds to the old plan's count, so that the new one begins at nothing.
    mover = history((0, 1), (50, 9))
    old, same, new = named("Ours", terms, mover, two)
    assert old == same != new
    # Both move: the count goes with them, and is one again.
    both = named("Ours", terms, mover, history((20, 1), (50, 9), subscription=2, application=2))
    assert len(set(both)) == 1
    # What everyone adds to belongs to the plan, whoever comes and goes.
    assert set(named("All", terms, history((0, 1), (50, 9), (80, 2)))) == {"1/All/quota/month//calls/everyone", None}


def test_who_was_never_under_other_terms_has_plain_names() -> None:
    terms = PlanTerms(limits=(MONTH, OURS, ALL, RATE))
    own = (Override(limit=replace(RATE, name="Own"), start_us=0),)
    plain = plain_names(1, terms, [own[0].limit], 0)
    (only,) = names_of([history((0, 1), overrides=own)], PLANS, {1: terms}).values()
    assert only == plain and len(set(plain.values())) == 5
    assert house_name("api", RATE) == "api/Rate/rate/10/1/key"


def test_a_history_is_cut_where_limits_change_and_nowhere_else() -> None:
    own = (Override(limit=replace(RATE, name="Own"), start_us=20, end_us=70),)
    parts = stretches(history((0, 1), (50, 2), overrides=own), PLANS, {1: PlanTerms(), 2: PlanTerms(limits=(MONTH,))})
    assert [(p.start_us, p.end_us, [x.limit.name for x in p.limits]) for p in parts] == [
        (0, 20, []),
        (20, 50, ["Own"]),
        (50, 70, ["Month", "Own"]),
        (70, None, ["Month"]),
    ]


def test_what_is_counted_for_a_consumer_follows_whoever_has_the_application() -> None:
    terms = {1: (OURS, MONTH)}
    mine = history((0, 1), consumer=7)
    came = history((20, 1), subscription=2, application=2, consumer=7, before=(Before(consumer_id=8, end_us=60),))
    assert [came.owner(at) for at in (0, 59, 60)] == [8, 8, 7]
    parts = stretches(came, PLANS, {1: PlanTerms(limits=terms[1])})
    assert [(p.start_us, p.end_us) for p in parts] == [(20, 60), (60, None)]
    # The whole's count is the other's, and then goes on with that of whoever it came to; its own is what it was.
    assert len(set(named("Ours", terms, mine, came))) == 1
    own = named("Month", terms, mine, came)
    assert len(own) == 3 and len(set(own)) == 1
    # One that came after the first of its kind had gone begins at nothing, and takes nobody's name in passing.
    gone = replace(mine, stays=(replace(mine.stays[0], end_us=50),))
    first, before, after = named("Ours", terms, gone, came)
    assert first == before and after == f"{first}@60"
    # An earlier life elsewhere does not take the name of a count that is there already.
    early = history((0, 1), subscription=2, application=2, consumer=7, before=(Before(consumer_id=8, end_us=60),))
    late = history((30, 1), consumer=7)
    assert len(set(named("Ours", terms, early, late))) == 1
