"""The bench, live: test calls through the real limiter, against a plan as published or as drafted.

Counts are the run's own, so nothing of it is counted or charged. Calls come in real time; who asks the back
end is not decided here.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from typing import Any, Literal
from zoneinfo import ZoneInfo

from sqlalchemy import select
from sqlalchemy.orm import Session, selectinload

from calm_tariff.core.errors import Conflict, Invalid, NotFound
from calm_tariff.core.layers import Layer, LayeredLimit
from calm_tariff.core.limiter import Clock, Decision, Stack
from calm_tariff.core.limits import Call, Units
from calm_tariff.core.meters import Meter as MeterRule
from calm_tariff.core.meters import Outcome, costs_of, reading
from calm_tariff.core.sentences import limit_sentence, words
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats import replies
from calm_tariff.formats.journal import rungs
from calm_tariff.formats.replies import Policies
from calm_tariff.formats.values import read, write
from calm_tariff.services.base.context import ROLES, Context, zone_of
from calm_tariff.services.compose import house_limits
from calm_tariff.services.compose.apis import back_ends
from calm_tariff.services.compose.meters import rule_of
from calm_tariff.services.serve import receipts
from calm_tariff.services.serve.receipts import Rung
from calm_tariff.store.compose.apis import Operation
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.compose.products import Plan, Product, ProductOperation
from calm_tariff.store.serve import call_queries
from calm_tariff.store.serve.call_queries import CallFilter
from calm_tariff.store.serve.usage import Call as Recorded

_NUMBER = re.compile("[0-9]{1,9}")
MOST_CALLS, MOST_SECONDS, MOST_A_SECOND, MOST_KEYS = 2000, 60, 500, 50
Terms = Literal["draft", "live"]


@dataclass(frozen=True, slots=True)
class BenchOperation:
    """An operation a plan sells. `sandbox` tells whether there is a sandbox back end to ask."""

    id: int
    label: str
    sandbox: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class BenchOffer:
    """A plan that can be put on the bench, as drafted or as live."""

    plan_id: int
    product_id: int
    label: str
    drafted: bool
    live: bool
    operations: list[BenchOperation]


@dataclass(frozen=True, slots=True)
class Pattern:
    """When calls come, as (µs after the start, number of the key), in order."""

    calls: tuple[tuple[int, int], ...]


@dataclass(frozen=True, slots=True)
class LimitOnBench:
    """A limit of the run: its sentence, and what it allows at most."""

    name: str
    kind: str
    layer: str
    sentence: str
    allowed: int | None


@dataclass(frozen=True, slots=True, kw_only=True)
class BenchCall:
    """One fired call with its receipt. `left` is what each limit has left afterwards, by its place in the
    run's limits; None where it did not apply."""

    n: int
    at_ms: int
    key: int
    verdict: str
    by: str | None
    wait_ms: float
    status: int
    left: list[str | None]
    summary: str
    rungs: list[Rung]
    told: list[str]
    at_us: int


@dataclass(slots=True)
class Run:
    """A plan on the bench with counts of its own."""

    title: str
    operation: Operation
    revision: str
    layered: tuple[LayeredLimit, ...]
    stack: Stack
    meters: tuple[tuple[str, MeterRule], ...]
    terms: PlanTerms
    where: ZoneInfo
    started_us: int
    sandbox_url: str
    sandbox_headers: dict[str, str]
    path: str
    counts: dict[tuple[str, str], Any] = field(default_factory=dict)
    clock: Clock = field(default_factory=Clock)
    verdicts: Counter[str] = field(default_factory=Counter)

    @property
    def limits(self) -> list[LimitOnBench]:
        """The limits that apply, in the order tested."""
        applying = {id(c.limit) for c in self.stack.applying(str(self.operation.id))}
        return [
            LimitOnBench(
                each.limit.name,
                each.limit.kind,
                each.layer,
                words(limit_sentence(each.limit)),
                None if each.limit.kind == "pace" else int(replies.allowed(each.limit)),
            )
            for each in self.layered
            if id(each.limit) in applying
        ]

    def case(self) -> dict[str, Any]:
        """The run as a case for `./calm decide`, its calls still to be put in."""
        return {
            "time_zone": str(self.where),
            "subscription_start_us": self.started_us,
            "limits": [_for_case(write(each.limit)) for each in self.layered],
            "calls": [],
        }

    def decide(self, at_us: int, key: int) -> tuple[Call, Decision]:
        """Decide on a call that comes now."""
        operation = str(self.operation.id)
        costs = costs_of(tuple(meter for _, meter in self.meters), operation, "live", "key")
        call = Call(
            at_us=at_us,
            key=f"test key {key}",
            application="bench",
            consumer="bench",
            subscription="bench",
            operation=operation,
            costs=costs,
        )
        decision = self.stack.decide(call, self.counts, self.clock)
        self.verdicts[decision.verdict] += 1
        return call, decision

    def finished(self, n: int, key: int, call: Call, decision: Decision, *, status: int, size: int) -> BenchCall:
        """What became of a call, settled and with its receipt. `status` is the back end's; 429 where refused."""
        units: dict[str, str] = {}
        told = replies.rate_limit_fields(self._policies(), decision, self.clock.last)
        if decision.verdict == "refused":
            told = replies.refusal(decision, self.clock.last)[1][1:] + told
        else:
            outcome = Outcome(operation=call.operation, status=status, bytes_out=size)
            truth: dict[str | None, Units] = {}
            for name, meter in self.meters:
                found = reading(meter, outcome)
                if found is not None:
                    units[name] = str(found.units)
                exact = found.units if found else Decimal(0)
                truth[meter.key] = int(exact) if exact == int(exact) else exact
            self.stack.settle(call, truth, self.counts)
        above: dict[str, Layer] = {x.limit.name: x.layer for x in self.layered if x.layer in ("provider", "api")}
        record = Recorded(
            at_us=call.at_us,
            verdict=decision.verdict,
            refused_by=decision.by,
            status=status,
            wait_us=decision.wait_us,
            retry_after_us=decision.retry_after_us,
            checks=rungs(decision, above),
            reserved=1,
            carried={},
            units=units,
        )
        steps = [
            Rung("passed", f"Test key {key + 1}", "of the bench: counted nowhere else", "credential"),
            Rung("passed", self.title, f"{self.operation.label} is part of it", "access"),
            *receipts.limit_rungs(record, self.terms, self.where),
        ]
        if decision.verdict == "refused":
            steps.append(Rung("end", "Back end not asked", "no unit counted, nothing charged", "end"))
        else:
            steps.append(
                Rung("passed" if status < 500 else "refused", f"Answered {status}", f"{size} bytes", "back end")
            )
            steps += [
                Rung("passed", f"{n} would count on {name}", "but not here", "meter") for name, n in units.items()
            ]
        left = {c.limit.name: c.left for c in decision.checks}
        return BenchCall(
            n=n,
            at_ms=(call.at_us - self.started_us) // 1000,
            key=key,
            verdict=decision.verdict,
            by=decision.by,
            wait_ms=decision.wait_us / 1000,
            status=status,
            left=[None if left.get(x.name) is None else str(left[x.name]) for x in self.limits],
            summary=receipts.summary(record),
            rungs=steps,
            told=[str(status), *(f"{k.decode()}: {v.decode()}" for k, v in told)],
            at_us=call.at_us,
        )

    def _policies(self) -> Policies:
        return Policies.of([c.limit for c in self.stack.applying(str(self.operation.id))])


def offers(ctx: Context) -> list[BenchOffer]:
    """Every plan that has terms, with the operations it sells."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        query = select(Product).options(selectinload(Product.plans), selectinload(Product.operations))
        return [
            BenchOffer(
                plan_id=plan.id,
                product_id=product.id,
                label=f"{product.name} · {plan.name}",
                drafted=plan.draft is not None,
                live=bool(plan.revisions),
                operations=[
                    BenchOperation(
                        o.id,
                        f"{o.label}, {o.api_version.api.name} {o.api_version.version}",
                        bool(o.api_version.sandbox_url),
                    )
                    for o in product.operations
                ],
            )
            for product in session.scalars(query.order_by(Product.name))
            for plan in product.plans
            if plan.state != "withdrawn" and (plan.draft or plan.revisions)
        ]


def begin(ctx: Context, plan_id: int, terms: Terms, operation_id: int) -> Run:
    """Put a plan on the bench. Raises `NotFound`, or `Conflict` where it has no such terms or operation."""
    ctx.actor.must_be(*ROLES)
    with ctx.transaction() as session:
        plan, operation = session.get(Plan, plan_id), session.get(Operation, operation_id)
        if plan is None or operation is None:
            raise NotFound("there is no such plan or operation", str(plan_id))
        sold = set(session.scalars(select(ProductOperation.c.operation_id).filter_by(product_id=plan.product_id)))
        if operation.id not in sold:
            raise Conflict(f"{plan.product.name} does not sell it", operation.label)
        if terms == "draft" and plan.draft is None:
            raise Conflict("it has no draft", plan.name)
        if terms == "live" and not plan.revisions:
            raise Conflict("it was never published", plan.name)
        kept = plan.draft.terms if terms == "draft" and plan.draft else plan.revisions[-1].terms
        revision = "as drafted" if terms == "draft" else f"revision {plan.revisions[-1].number}"
        whole = read(PlanTerms, kept)
        layered = _layered(session, whole, operation)
        where, now = zone_of(session), ctx.now_us
        scopes = [f"{place}" for place in range(len(layered))]
        counting = [
            (m.name, rule_of(m))
            for m in session.scalars(select(Meter).where(Meter.state == "active"))
            if str(operation.id) in rule_of(m).operations
        ]
        login = back_ends.opened(ctx, operation.api_version.sandbox_login)
        return Run(
            title=f"{plan.product.name} · {plan.name}, {revision}",
            operation=operation,
            revision=revision,
            layered=layered,
            stack=Stack([each.limit for each in layered], where, now, scopes),
            meters=tuple(counting),
            terms=whole,
            where=where,
            started_us=now,
            sandbox_url=operation.api_version.sandbox_url,
            sandbox_headers={"Authorization": login} if login else {},
            path=operation.path,
        )


def evenly(calls: int, per_second: float, keys: int) -> Pattern:
    """So many calls, evenly spaced, from so many keys in turn. Raises `Invalid`, naming the field."""
    for name, value, most in (("calls", calls, MOST_CALLS), ("keys", keys, MOST_KEYS)):
        if not 1 <= value <= most:
            raise Invalid(f"must be between 1 and {most:,}", name)
    if not 0 < per_second <= MOST_A_SECOND:
        raise Invalid(f"must be above 0 and at most {MOST_A_SECOND}", "per_second")
    made = tuple((round(n * 1_000_000 / per_second), n % keys) for n in range(calls))
    return _checked(made)


def listed(text: str) -> Pattern:
    """A list of calls, one a line: ms after the start and, if wanted, the number of the key from 1.

    Raises `Invalid`, naming the line.
    """
    made: list[tuple[int, int]] = []
    for number, line in enumerate(text.splitlines(), 1):
        parts = line.replace(",", " ").split()
        if not parts:
            continue
        if len(parts) > 2 or not all(_NUMBER.fullmatch(p) for p in parts):
            raise Invalid("must be whole numbers: ms after the start, and the key", f"line {number}")
        key = int(parts[1]) if len(parts) == 2 else 1
        if not 1 <= key <= MOST_KEYS:
            raise Invalid(f"the key must be between 1 and {MOST_KEYS}", f"line {number}")
        made.append((int(parts[0]) * 1000, key - 1))
    if not made:
        raise Invalid("must name at least one call", "list")
    return _checked(tuple(sorted(made)))


def recorded(ctx: Context, consumer_id: int, calls: int = 200) -> str:
    """A consumer's last calls as a list for the bench: as close together as they came, gaps over 5 s cut short."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        found = call_queries.page(session, CallFilter(consumer_id=consumer_id), None, min(calls, MOST_CALLS))
    keys: dict[int | None, int] = {}
    rows: list[str] = []
    at = last = 0
    for call in reversed(found):
        at += min(call.at_us - (last or call.at_us), 5_000_000)
        last = call.at_us
        if at > MOST_SECONDS * 1_000_000:
            break
        rows.append(f"{at // 1000} {keys.setdefault(call.key_id, len(keys) + 1)}")
    return "\n".join(rows)


def _checked(calls: Sequence[tuple[int, int]]) -> Pattern:
    if len(calls) > MOST_CALLS:
        raise Invalid(f"at most {MOST_CALLS:,} calls fit", "calls")
    if calls[-1][0] > MOST_SECONDS * 1_000_000:
        raise Invalid(
            f"the last call would come after {calls[-1][0] // 1_000_000} s; {MOST_SECONDS} s fit", "per_second"
        )
    return Pattern(tuple(calls))


def _layered(session: Session, terms: PlanTerms, operation: Operation) -> tuple[LayeredLimit, ...]:
    return tuple(each for each in house_limits.house_of(session).with_plan(terms) if each.applies_to(str(operation.id)))


def _for_case(limit: dict[str, Any]) -> dict[str, Any]:
    return {k: v for k, v in limit.items() if k != "meter" and v is not None}
