"""Calls of other gateways sent by a script, a batch at a time: recorded before it is answered.

Source: docs/arithmetic.md, section 6.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import BinaryIO

from sqlalchemy.orm import Session

from calm_tariff.core.errors import Invalid
from calm_tariff.formats import outside_calls
from calm_tariff.formats.outside_calls import Part, Read
from calm_tariff.formats.values import write
from calm_tariff.services.base import idempotency
from calm_tariff.services.base.context import Context
from calm_tariff.services.serve.elsewhere import files, going_on, places, recording, sorting
from calm_tariff.services.serve.elsewhere.files import BRINGERS, UnusableRow
from calm_tariff.services.serve.elsewhere.placing import Placed
from calm_tariff.services.serve.elsewhere.recording import Recorded
from calm_tariff.services.serve.elsewhere.sorting import Unusable
from calm_tariff.store.serve.outside_usage import UsageFile

MOST_ROWS = 10_000
MOST_BYTES = 20_000_000
# So many rows that cannot be used are named in a refusal.
_NAMED = 20


@dataclass(frozen=True, slots=True, kw_only=True)
class Sent:
    """What came of a batch: how many of its calls were new and are recorded, how many were recorded already, how many
    of these said something else and were set aside; and the rows that were left out."""

    usage_file_id: int
    recorded: int
    known: int
    differing: int
    left_out: list[UnusableRow]


def send(ctx: Context, file: BinaryIO, source: str, leaving_out: bool, key: str | None = None) -> Sent:
    """Record a batch: CSV, JSON Lines or CloudEvents. `source` is that of rows that name none. Where some cannot be
    used, nothing is recorded and `Invalid` names them, unless `leaving_out` agrees to leave them out."""
    ctx.actor.must_be(*BRINGERS)
    layout, found = outside_calls.parts(file, files.source_of(source), size=MOST_BYTES + 1)
    sent = list(found)
    if len(sent) > 1:
        raise Invalid("is too large to be sent at once; bring it as a file", "file")
    rows = [row for part in sent for row in outside_calls.rows(part, layout)]
    if not rows:
        raise Invalid("has no calls", "file")
    if len(rows) > MOST_ROWS:
        raise Invalid(f"at most {MOST_ROWS:,} calls may be sent at once; bring more as a file", "rows")
    with ctx.transaction() as session:
        known = idempotency.answered(session, ctx, key, "usage")
        if known is not None:
            return _sent(session, session.get_one(UsageFile, known["file_id"]))
        made = files.begun(session, ctx, "sent by a script", "done", write(layout))
        unusable, recorded = _recorded(session, ctx, made, rows)
        if unusable and not leaving_out:
            raise Invalid(_in_words(unusable), "rows")
        _keep(session, ctx, made, recorded, sent[0], unusable)
        idempotency.remember(session, ctx, key, {"file_id": made.id})
        return _sent(session, made)


def _recorded(
    session: Session, ctx: Context, made: UsageFile, rows: list[tuple[int, Read]]
) -> tuple[list[Unusable], Recorded]:
    sources = {row.source for _, row in rows if not isinstance(row, str)}
    if not sources:
        return [(line, str(row)) for line, row in rows], Recorded()
    recording.turn(session, ctx, sources, made.id)
    known = places.now(session, ctx)
    calls: list[Placed] = []
    unusable = sorting.sort(rows, known, calls.append)
    done = recording.record(session, ctx, calls, made.id)
    recording.end_trials(session, ctx, known, {placed.place.grant.subscription_id for placed in calls})
    made.sources = dict.fromkeys(sorted(sources), made.id)
    return unusable, done


def _keep(
    session: Session, ctx: Context, made: UsageFile, recorded: Recorded, part: Part, unusable: list[Unusable]
) -> None:
    made.rows = recorded.new + recorded.known + len(unusable)
    made.usable = made.recorded = recorded.new
    made.known, made.differing = recorded.known, recorded.differing
    made.unusable = sorting.keep(session, made.id, part, unusable)
    going_on.note_recorded(session, ctx, made)


def _in_words(unusable: list[Unusable]) -> str:
    named = "; ".join(f"line {line}: {why}" for line, why in unusable[:_NAMED])
    more = f"; and {len(unusable) - _NAMED:,} more" if len(unusable) > _NAMED else ""
    return f"cannot be used, and nothing was recorded: {named}{more}"


def _sent(session: Session, of: UsageFile) -> Sent:
    return Sent(
        usage_file_id=of.id,
        recorded=of.recorded,
        known=of.known,
        differing=of.differing,
        left_out=files.all_unusable(session, of.id),
    )
