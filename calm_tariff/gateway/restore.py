"""Rebuilding counts from recorded usage, so that a restart forgets nothing."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from calm_tariff.core.limiter import Counts, Stack
from calm_tariff.core.limits import Call
from calm_tariff.core.meters import Environment
from calm_tariff.core.periods import DAY
from calm_tariff.gateway.compiled.snapshot import Snapshot
from calm_tariff.gateway.verdict.counted import key_subject, strangers_call
from calm_tariff.gateway.verdict.credentials import WITHOUT
from calm_tariff.services.base.context import Context
from calm_tariff.services.serve.grants import STRANGER, TRYING
from calm_tariff.services.serve.replaying import APART_US, calls_since, open_quotas
from calm_tariff.store.serve.usage import Call as RecordedCall

_LONGEST = 31 * DAY


def restored(ctx: Context, snapshot: Snapshot, now_us: int) -> dict[tuple[str, str], Any]:
    """The counts as they stand now by what is recorded. The journal must be shipped before.

    Quotas' counts are read as they were kept with the calls they let in; those of rates, windows and pacing are
    made of the calls themselves, each under the limits it was checked by.
    """
    counts: dict[tuple[str, str], Any] = {}
    for kept in open_quotas(ctx, now_us):
        whole = int(kept.units)
        counts[kept.scope, kept.subject] = (kept.begin_us, whole if whole == kept.units else kept.units)
    reach = snapshot.memory_us()
    if reach:
        # A call may have waited for its decision, which is what counts.
        _replay(counts, snapshot, calls_since(ctx, now_us - min(reach, _LONGEST) - APART_US))
    return counts


def _replay(counts: Counts, snapshot: Snapshot, calls: Iterable[RecordedCall]) -> None:
    for call in calls:
        environment: Environment = "sandbox" if call.environment == "sandbox" else "live"
        stack, asked = _asked(snapshot, call, environment)
        if stack is None:
            continue
        # A limit that came into force meanwhile does not count what was decided without it.
        checked = {rung[0] for rung in call.checks}
        for compiled in stack.applying(asked.operation):
            if not compiled.is_quota and compiled.limit.name in checked:
                key = (compiled.scope, compiled.pick(asked))
                counts[key] = compiled.take(counts.get(key), asked.at_us, 1)[0]


def _asked(snapshot: Snapshot, call: RecordedCall, environment: Environment) -> tuple[Stack | None, Call]:
    """A recorded call as the limiter saw it, and the limits it met; None where these are no longer known."""
    at, operation = call.decided_us or call.at_us, str(call.operation_id)
    if call.credential == WITHOUT.kind:
        application = TRYING if environment == "sandbox" else STRANGER
        access = snapshot.access(application, call.operation_id or 0, environment, call.credential, call.at_us)
        return access.stack if access else None, strangers_call(at, operation, call.carried)
    asked = Call(
        at_us=at,
        key=key_subject(call.key_id, call.application_id or 0),
        application=str(call.application_id),
        consumer=str(call.consumer_id),
        subscription=str(call.subscription_id),
        operation=operation,
        values=call.carried,
    )
    return snapshot.stack(call.subscription_id or 0, environment, call.at_us), asked
