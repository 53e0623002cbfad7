"""Whether what is kept here is whole, and the books agree, as `./calm audit` says it."""

from __future__ import annotations

import sys
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from decimal import Decimal

from sqlalchemy.exc import OperationalError

from calm_tariff.core.billing.books.proof import CHECKS
from calm_tariff.core.errors import Invalid
from calm_tariff.core.money import plain
from calm_tariff.launch.reached import reached
from calm_tariff.services.base.context import Actor, Context
from calm_tariff.services.house import record
from calm_tariff.services.settle.books import audits, charged, showing
from calm_tariff.services.settle.books.audits import Found
from calm_tariff.services.settle.books.narrowing import CameOf

_MACHINE = Actor("whoever runs this machine", frozenset({"operations"}))
_WHERE = {"recorded": "calls say", **charged.WHERE}


def audit(kept: str, each: bool = False) -> int:
    """Say it, of `each` subscription and meter as well; 0 where everything is whole and agrees, 1 where it does not, 2
    where that cannot be told."""
    try:
        ctx = reached(_MACHINE)
        whole = _record(ctx, kept)
        agree = _books(ctx, each)
    except Invalid as error:
        print(error, file=sys.stderr)
        return 2
    except OperationalError:
        print("the database does not answer; start it with ./calm start or ./calm demo", file=sys.stderr)
        return 2
    return 0 if whole and agree else 1


def _record(ctx: Context, kept: str) -> bool:
    found = record.proof(ctx, kept)
    without = f", {found.erased:,} of them without their words, which spoke of a person" if found.erased else ""
    print(f"The record: {found.entries:,} entries in one chain{without}.")
    print(f"Its last entry is {found.number}:{found.digest}")
    if found.wrong:
        print(f"It is not whole: {found.wrong}.")
        return False
    print("It is whole. Keep that line elsewhere: --kept with it finds out later whether entries were replaced.")
    return True


def _books(ctx: Context, each: bool) -> bool:
    found = audits.look_through(ctx)
    print(f"\nThe books, as they were at {found.at:%Y-%m-%d %H:%M:%S} UTC.")
    for proof in found.proofs:
        agrees = "they agree" if not proof.differences else f"{len(proof.differences):,} DIFFER"
        print(f"\n{CHECKS[proof.check]}: {proof.compared:,} sums, {agrees}.")
        for table, amount in proof.sums:
            print(f"  {table:<24} {_figure(amount):>24}")
    print("\nCalls by period:")
    for tally in found.calls:
        told = ", ".join(f"{name.replace('_', ' ')} {n:,}" for name, n in tally.items() if name != "period")
        print(f"  {tally['period']}: {told}")
    print("\nUnits by period" + (", subscription" if each else "") + " and meter:")
    for line in _units(ctx, found, each):
        print(f"  {line}")
    for line in _differences(ctx, found):
        print(line)
    return not found.differences


def _units(ctx: Context, found: Found, each: bool) -> Iterator[str]:
    named = showing.named(ctx, [key[1] for key in found.units])
    sums: dict[tuple[str, ...], list[Decimal | None]] = {}
    for (period, subscription, meter), of in found.units.items():
        whose = (named.subscription(subscription),) if each else ()
        key = (str(period), *whose, named.meter(meter))
        before = sums.get(key)
        now = [getattr(of, name) for name in _WHERE]
        sums[key] = now if before is None else [_both(a, b) for a, b in zip(before, now, strict=True)]
    for key, amounts in sums.items():
        told = [f"{words} {_figure(a)}" for words, a in zip(_WHERE.values(), amounts, strict=True) if a]
        yield f"{', '.join(key)}: {', '.join(told) or 'none'}"


def _both(one: Decimal | None, other: Decimal | None) -> Decimal | None:
    return None if one is None or other is None else one + other


def _differences(ctx: Context, found: Found) -> Iterator[str]:
    if not found.differences:
        yield "\nThe books agree."
        return
    yield f"\n{len(found.differences):,} sums DIFFER:"
    named = showing.named(ctx, [each.subscription_id or 0 for each in found.differences])
    for each, came_of in found.narrowed:
        whose = [named.subscription(each.subscription_id)] if each.subscription_id else []
        whose += [named.meter(each.meter_id)] if each.meter_id else []
        said = ", ".join(f"{table} {_figure(amount)}" for table, amount in each.sums)
        yield f"  {', '.join([each.what, *whose])}: {said}; by {_figure(each.by)}"
        yield from _stretches(came_of)
    if len(found.differences) > len(found.narrowed):
        yield f"  and {len(found.differences) - len(found.narrowed):,} more"


def _stretches(came_of: Iterable[CameOf]) -> Iterator[str]:
    for each in came_of:
        said = ", ".join(f"{table} {_figure(amount)}" for table, amount in each.sums)
        yield f"    {_moment(each.since_us)} to {_moment(each.until_us)} UTC: {said}"
        for call in each.wrong:
            yield f"      call {call.call_id} says {_figure(call.says)}, and its meter reads {_figure(call.reads)}"


def _moment(at_us: int) -> str:
    return f"{datetime.fromtimestamp(at_us / 1_000_000, UTC):%Y-%m-%d %H:%M}"


def _figure(amount: Decimal | None) -> str:
    if amount is None:
        return "not kept"
    whole, _, part = plain(abs(amount)).partition(".")
    return f"{'-' if amount < 0 else ''}{int(whole):,}{'.' if part else ''}{part}"
