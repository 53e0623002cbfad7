"""Properties of the limiter that no list of cases can show."""

import itertools
from copy import deepcopy
from dataclasses import replace

from hypothesis import given, settings
from hypothesis import strategies as st

from calm_tariff.core.limiter import Clock, Stack
from calm_tariff.core.limits import Call, Cost, Costs, Pace, Quota, Rate, Window
from calm_tariff.core.periods import SECOND, calendar_window, subscription_window
from calm_tariff.core.receipts import ladder
from tests.core.drawn_limits import LISBON, T0, call, gaps, instants, paces, quotas, rates, windows


def run(limits, times, units=1):
    stack, counts, clock = Stack(limits, LISBON, T0), {}, Clock()
    return [(at, stack.decide(call(at, units=units), counts, clock)) for at in times]


@given(rates, gaps)
def test_a_rate_admits_no_more_than_its_burst_and_refill_in_any_stretch(rate: Rate, steps: list[int]) -> None:
    admitted = [at for at, d in run([rate], instants(steps)) if d.verdict == "served"]
    for i, start in enumerate(admitted):
        for n, end in enumerate(admitted[i:], 1):
            assert n <= rate.burst + (end - start) * rate.calls / (rate.per_seconds * SECOND)


@given(windows, gaps)
def test_a_window_is_never_exceeded(window: Window, steps: list[int]) -> None:
    admitted = [at for at, d in run([window], instants(steps)) if d.verdict == "served"]
    length = window.per_seconds * SECOND
    for at in admitted:
        if window.rolling:
            inside = [a for a in admitted if at - length < a <= at]
        else:
            inside = [a for a in admitted if a // length == at // length]
        assert len(inside) <= window.calls


@given(paces, gaps)
def test_paced_calls_go_on_no_closer_than_the_pace_and_wait_no_longer_than_promised(pace: Pace, steps) -> None:
    let_on = [at + d.wait_us for at, d in run([pace], instants(steps)) if d.verdict != "refused"]
    slot = pace.per_seconds * SECOND / pace.calls
    assert all(later - sooner > slot - 1 for sooner, later in itertools.pairwise(let_on))
    assert all(d.wait_us <= pace.max_wait_ms * 1000 for _, d in run([pace], instants(steps)))


@given(quotas, gaps, st.integers(1, 4))
def test_a_quota_is_never_exceeded_in_its_window(quota: Quota, steps: list[int], units: int) -> None:
    used: dict[tuple[int, int], int] = {}
    for at, d in run([quota], instants(steps), units):
        window = (
            calendar_window(quota.every, at, LISBON)
            if quota.aligned == "calendar"
            else subscription_window(quota.every, at, T0, LISBON)
        )
        if d.verdict == "served":
            used[window] = used.get(window, 0) + units
    assert all(total <= quota.units for total in used.values())


@settings(max_examples=60)
@given(st.lists(st.one_of(rates, windows, paces, quotas), min_size=1, max_size=4), gaps)
def test_a_refused_call_consumes_nothing_and_says_exactly_when_it_would_be_let_in(limits, steps) -> None:
    named = [replace(limit, name=f"l{n}") for n, limit in enumerate(limits)]
    stack, counts, clock = Stack(named, LISBON, T0), {}, Clock()
    for at in instants(steps):
        before = {key: list(s) if hasattr(s, "popleft") else s for key, s in counts.items()}
        decision = stack.decide(call(at), counts, clock)
        if decision.verdict == "refused":
            live = {
                key: [i for i in s if not isinstance(s, int)] if hasattr(s, "popleft") else s
                for key, s in counts.items()
            }
            assert {k: v for k, v in live.items() if isinstance(v, int | tuple)} == {
                k: v for k, v in before.items() if isinstance(v, int | tuple)
            }
            wait = decision.retry_after_us
            assert wait is not None
            assert wait > 0
            assert Stack(named, LISBON, T0).decide(call(at + wait), deepcopy(counts), Clock()).verdict != "refused"
            assert Stack(named, LISBON, T0).decide(call(at + wait - 1), deepcopy(counts), Clock()).verdict == "refused"
            return


@given(st.lists(st.one_of(rates, windows, quotas), min_size=1, max_size=3), gaps)
def test_what_is_said_to_be_left_is_what_is_let_in_at_that_instant_and_no_more(limits, steps: list[int]) -> None:
    limits = [replace(limit, name=str(n)) for n, limit in enumerate(limits)]
    stack, counts, clock = Stack(limits, LISBON, T0), {}, Clock()
    for at in instants(steps):
        decision = stack.decide(call(at), counts, clock)
        left = min(check.left for check in decision.checks)
        further, now = deepcopy(counts), Clock(clock.last)
        let_in = [stack.decide(call(at), further, now).verdict != "refused" for _ in range(left + 1)]
        assert let_in == [True] * left + [False]


def test_a_reservation_is_settled_to_the_true_units_in_its_own_window() -> None:
    quota = Quota(name="q", counted_per="key", units=2, every="minute", aligned="calendar", when_spent="refuse")
    stack, counts, clock = Stack([quota], LISBON, T0), {}, Clock()
    first = call(T0, settles=True)
    assert stack.decide(first, counts, clock).remaining == {"q": 1}
    stack.settle(first, {None: 0}, counts)
    assert stack.decide(call(T0 + 1, settles=True), counts, clock).remaining == {"q": 1}
    late = call(T0 + 61 * SECOND, settles=True)
    stack.decide(late, counts, clock)
    stack.settle(first, {None: 5}, counts)  # the first minute is over: nothing to correct any more
    assert stack.decide(call(T0 + 62 * SECOND, settles=True), counts, clock).remaining == {"q": 0}
    assert stack.decide(call(T0 + 63 * SECOND, settles=True), counts, clock).verdict == "refused"


def test_a_clock_that_steps_back_gives_nothing_away() -> None:
    rate = Rate(name="r", counted_per="key", calls=1, per_seconds=10, burst=1)
    verdicts = [d.verdict for _, d in run([rate], [T0 + 9 * SECOND, T0, T0 + 18 * SECOND, T0 + 19 * SECOND])]
    assert verdicts == ["served", "refused", "refused", "served"]


def test_units_of_one_meter_settle_its_own_quotas_alone() -> None:
    def quota(meter: str) -> Quota:
        return Quota(
            name=meter, counted_per="key", units=100, every="hour", aligned="calendar", when_spent="refuse", meter=meter
        )

    stack, counts, clock = Stack([quota("calls"), quota("bytes"), quota("tokens")], LISBON, T0), {}, Clock()
    costs = Costs({None: Cost(1), "calls": Cost(1), "bytes": Cost(0, settles=True)})
    first = call(T0)._replace(costs=costs)
    decision = stack.decide(first, counts, clock)
    # A megabyte is not known yet, and reserves nothing; what counts tokens alone has nothing to do with this call.
    assert decision.remaining == {"calls": 99, "bytes": 100}
    stack.settle(first, {"bytes": 9, "tokens": 50}, counts)
    assert stack.decide(first, counts, clock).remaining == {"calls": 98, "bytes": 91}
    stack.settle(first, {"calls": 4, "bytes": 5}, counts)
    assert stack.decide(first, counts, clock).remaining == {"calls": 94, "bytes": 86}
    spent = first._replace(costs=Costs({"bytes": Cost(0, settles=True)}))
    stack.settle(first, {"bytes": 86}, counts)
    assert stack.decide(spent, counts, clock).by == "bytes"  # nothing is left, whatever it will come to


def test_a_refusal_tells_of_the_window_that_is_open_not_of_the_one_before() -> None:
    quota = Quota(name="q", counted_per="key", units=5, every="minute", aligned="calendar", when_spent="refuse")
    slow = Rate(name="r", counted_per="key", calls=1, per_seconds=3600, burst=1)
    stack, counts, clock = Stack([quota, slow], LISBON, T0), {}, Clock()
    stack.decide(call(T0), counts, clock)
    refused = stack.decide(call(T0 + 61 * SECOND), counts, clock)
    assert (refused.by, refused.remaining["q"]) == ("r", 5)
    assert ladder(refused)[0] == ["q", False, 0, "5", ["0", "0"]]
    let_in = stack.decide(call(T0 + 2 * 3600 * SECOND), counts, clock)
    assert ladder(let_in)[0] == ["q", False, 0, "4", ["0", "1"]]


def test_a_value_counts_for_its_consumer_unless_the_limit_says_otherwise() -> None:
    own = Rate(name="own", counted_per="address", calls=1, per_seconds=60, burst=1)
    shared = replace(own, name="shared", across_consumers=True, burst=2)
    counts, clock = {}, Clock()
    stack = Stack([own, shared], LISBON, T0)

    def verdict(consumer: str, key: str, address: str | None) -> str | None:
        values = {"address": address} if address else {}
        return stack.decide(
            Call(
                at_us=T0,
                key=key,
                application="a",
                consumer=consumer,
                subscription="s",
                operation="o",
                units=1,
                values=values,
            ),
            counts,
            clock,
        ).by

    assert verdict("c1", "k1", "192.0.2.1") is None
    assert verdict("c1", "k1", "192.0.2.1") == "own"
    assert verdict("c2", "k2", "192.0.2.1") is None  # one cannot spend another's
    assert verdict("c3", "k3", "192.0.2.1") == "shared"  # but what all share is spent by all
    # Without the value it is the key that counts, never a count that all such calls share.
    assert [verdict("c1", key, None) for key in ("k1", "k2", "k1")] == [None, None, "own"]
