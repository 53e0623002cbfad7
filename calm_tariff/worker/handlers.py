"""What is done for each kind of job, how often it is tried, and what is done again and again."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from functools import partial
from typing import Any

from calm_tariff.edge.outside_billing import outside_billing_of
from calm_tariff.edge.processor import processor_of
from calm_tariff.services.admit import credentials, moves, sign_up, subscriptions
from calm_tariff.services.admit.desk import asking, conversation, deciding, outside_decisions, outside_events, queue
from calm_tariff.services.admit.importing import going_on, imports
from calm_tariff.services.admit.organisation import joining
from calm_tariff.services.admit.portals import clients
from calm_tariff.services.base import mailing
from calm_tariff.services.base.context import Context
from calm_tariff.services.base.jobs import LEASE
from calm_tariff.services.compose.apis import sunsets
from calm_tariff.services.house import inviting, telling
from calm_tariff.services.house.signing_in import mail_addresses, passwords, throttling
from calm_tariff.services.observe import alerts, spending
from calm_tariff.services.serve import trials, upkeep
from calm_tariff.services.serve.elsewhere import files as usage_files
from calm_tariff.services.serve.elsewhere import going_on as elsewhere
from calm_tariff.services.settle import forgetting
from calm_tariff.services.settle.accounts import reminding
from calm_tariff.services.settle.bank import entries
from calm_tariff.services.settle.books import audits
from calm_tariff.services.settle.cards import planning, refunding, trying
from calm_tariff.services.settle.documents import files
from calm_tariff.services.settle.exports import bundles
from calm_tariff.services.settle.handoff import handing_on, revising
from calm_tariff.services.settle.periods import charging, reckoning
from calm_tariff.settings import Settings
from calm_tariff.worker import client_maker, endpoints
from calm_tariff.worker.outside import ask_back_ends, ask_ticket_desk, send_webhook, tell_ticket_desk

# With pauses that grow to an hour, so many tries go on for a day and a half.
TRIES = 40
ASK_BACK_ENDS = "ask back ends whether they are well"
# How often a ticket that is not decided is asked about: the longer it has waited, the less often.
SOONEST, LATEST = timedelta(seconds=1), timedelta(minutes=1)

Done = datetime | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Handler:
    """What is done for a kind of job, given its arguments: it returns when it is to be done again, if ever. It is
    given up after so many `tries`, or never; `every` is how often it is done by the schedule, `lease` how long it may
    take before another worker does it, `at_once` how many of a kind one worker does beside each other."""

    kind: str
    do: Callable[[dict[str, Any]], Done]
    tries: int | None = TRIES
    every: timedelta | None = None
    lease: timedelta = LEASE
    at_once: int = 1


def handlers(ctx: Context, settings: Settings) -> list[Handler]:
    """Everything this worker does."""
    enclosing = partial(files.enclosed, ctx)
    found = [
        Handler(
            kind=mailing.SEND,
            at_once=3,
            do=lambda of: mailing.send(ctx, of["letter"], settings.mail_host, settings.mail_port, enclosing),
        ),
        Handler(kind=subscriptions.END_TRIAL, do=lambda of: trials.end_trial(ctx, of["subscription"])),
        Handler(
            kind=subscriptions.TELL_OF_TRIAL_END,
            do=lambda of: _nothing(subscriptions.tell_of_trial_end(ctx, of["subscription"])),
        ),
        Handler(kind=imports.GO_ON, lease=timedelta(minutes=10), do=lambda of: going_on.go_on(ctx, of["import"])),
        Handler(kind=usage_files.GO_ON, lease=timedelta(minutes=10), do=lambda of: elsewhere.go_on(ctx, of["file"])),
        _again("forget files of usage", timedelta(hours=1), lambda: usage_files.forget(ctx)),
        _again("forget files that were taken in", timedelta(hours=1), lambda: imports.forget(ctx)),
        Handler(kind=files.WRITE, do=lambda of: _nothing(files.write(ctx, of["document"]))),
        Handler(
            kind=bundles.MAKE,
            lease=timedelta(minutes=15),
            do=lambda of: _nothing(bundles.make(ctx, of["bundle"])),
        ),
        Handler(
            kind=audits.LOOK_THROUGH,
            lease=timedelta(hours=1),
            do=lambda of: _nothing(audits.go_on(ctx, of["audit"])),
        ),
        _again(audits.DAILY, timedelta(days=1), lambda: audits.daily(ctx), timedelta(hours=1)),
        _again("forget what audits found", timedelta(days=1), lambda: audits.forget(ctx)),
        _again("forget archives of documents", timedelta(hours=1), lambda: bundles.forget(ctx)),
        Handler(kind=charging.GO_ON, lease=timedelta(minutes=10), do=lambda of: charging.go_on(ctx, of["run"])),
        Handler(
            kind=reckoning.RECKON,
            lease=timedelta(minutes=10),
            do=lambda of: reckoning.reckon(ctx, date.fromisoformat(of["month"])),
        ),
        _again(elsewhere.RECKON_MONTHS, timedelta(minutes=5), lambda: reckoning.look(ctx), timedelta(minutes=10)),
        _again("draft months when it is time", timedelta(minutes=10), lambda: charging.when_it_is_time(ctx)),
        _again("match what the bank says", timedelta(minutes=1), lambda: entries.match_new(ctx)),
        _again(reminding.LOOK, timedelta(minutes=1), lambda: reminding.look(ctx)),
        Handler(kind=credentials.TELL_OF_END, do=lambda of: credentials.tell_of_end(ctx, of["key"])),
        Handler(kind=moves.MAKE, do=lambda of: moves.come_true(ctx, of["subscription"])),
        Handler(kind=sunsets.END_VERSION, do=lambda of: _nothing(sunsets.end_sunset(ctx, of["version"]))),
        _again("end trials that are over", timedelta(minutes=1), lambda: trials.end_trials(ctx)),
        _again("make moves that have come", timedelta(minutes=1), lambda: moves.make_those_that_have_come(ctx)),
        _again("end versions that are over", timedelta(minutes=1), lambda: sunsets.end_sunsets(ctx)),
        _again(ASK_BACK_ENDS, timedelta(seconds=15), lambda: ask_back_ends(ctx), timedelta(minutes=5)),
        _again("forget counts", timedelta(minutes=10), lambda: upkeep.forget_counts(ctx)),
        _again("forget calls", timedelta(hours=6), lambda: forgetting.forget_calls(ctx), timedelta(hours=1)),
        _again("forget bodies", timedelta(minutes=10), lambda: upkeep.forget_bodies(ctx)),
        _again("forget attempts to sign in", timedelta(minutes=10), lambda: throttling.forget(ctx)),
        _again("forget letters of sign-ups", timedelta(minutes=10), lambda: sign_up.forget(ctx)),
        _again("forget letters of passwords", timedelta(minutes=10), lambda: passwords.forget(ctx)),
        _again("forget letters of mail addresses", timedelta(minutes=10), lambda: mail_addresses.forget(ctx)),
        Handler(
            kind=clients.MAKE,
            lease=timedelta(minutes=5),
            tries=5,
            do=lambda of: client_maker.make(ctx, of["digest"]),
        ),
        _again("forget clients", timedelta(hours=1), lambda: clients.forget(ctx)),
        Handler(kind=alerts.SEND, at_once=2, do=lambda of: send_webhook(ctx, of)),
        _again("look whether alerts are reached", timedelta(seconds=30), lambda: alerts.look(ctx)),
        _again("look whether allowances are spent", timedelta(seconds=30), lambda: spending.look(ctx)),
        _again("hand out what happened", timedelta(seconds=1), lambda: telling.hand_out(ctx)),
        Handler(kind=telling.SEND, at_once=4, do=lambda of: endpoints.tell(ctx, of["endpoint"])),
        Handler(
            kind=telling.SEND_AGAIN, at_once=2, do=lambda of: endpoints.tell_again(ctx, of["endpoint"], of["event"])
        ),
        _again("forget what happened", timedelta(hours=1), lambda: telling.forget(ctx)),
        _again("forget webhooks that were taken", timedelta(minutes=10), lambda: outside_events.forget(ctx)),
        _again(
            "take back requests to move what has ended",
            timedelta(minutes=1),
            lambda: asking.end_those_without_a_subscription(ctx),
        ),
        _again("forget who looks at requests", timedelta(minutes=10), lambda: queue.forget_viewers(ctx)),
        _again("forget invitations", timedelta(minutes=10), lambda: joining.forget(ctx)),
        _again("forget invitations of the house", timedelta(minutes=10), lambda: inviting.forget(ctx)),
    ]
    processor = processor_of(settings)
    if processor is not None:
        found += [
            _again(planning.LOOK, timedelta(minutes=1), lambda: planning.look(ctx)),
            Handler(
                kind=planning.TRY,
                tries=None,
                at_once=3,
                do=lambda of: trying.make(ctx, processor, of["attempt"]),
            ),
            Handler(kind=refunding.PAY_OUT, tries=None, do=lambda of: refunding.make(ctx, processor, of["refund"])),
        ]
    billing = outside_billing_of(settings)
    if billing is not None:
        found += [
            Handler(
                kind=revising.LOOK,
                do=lambda _: revising.look(ctx),
                tries=None,
                every=timedelta(hours=1),
                lease=timedelta(minutes=10),
            ),
            _again(
                revising.LOOK_EVERYWHERE,
                timedelta(days=1),
                lambda: revising.look(ctx, everywhere=True),
                timedelta(hours=1),
            ),
            Handler(
                kind=handing_on.HAND_ON,
                do=lambda _: handing_on.hand_on(ctx, billing),
                tries=None,
                lease=timedelta(minutes=5),
            ),
            Handler(
                kind=handing_on.SEND_AGAIN, do=lambda of: _nothing(handing_on.send_again(ctx, billing, of["batch"]))
            ),
        ]
    if settings.ticket_desk_address:
        found.append(Handler(kind=deciding.ASK_DESK, tries=None, do=lambda of: _ticket(ctx, settings, of["request"])))
        desk, secret = settings.ticket_desk_address, settings.ticket_desk_secret
        found.append(
            Handler(
                kind=conversation.TELL_DESK,
                tries=None,
                do=lambda of: tell_ticket_desk(ctx, desk, secret, of["request"]),
            )
        )
    return found


def _again(kind: str, every: timedelta, do: Callable[[], object], lease: timedelta = LEASE) -> Handler:
    """Something of the schedule: never given up, because the next time may go well."""
    return Handler(kind=kind, do=lambda _: _nothing(do()), tries=None, every=every, lease=lease)


def _nothing(_: object) -> None:
    return None


def _ticket(ctx: Context, settings: Settings, request_id: int) -> Done:
    if ask_ticket_desk(ctx, settings.ticket_desk_address, settings.ticket_desk_secret, request_id):
        return None
    outside_decisions.remind(ctx, request_id)
    request = outside_decisions.passed(ctx, request_id)
    waited = ctx.now - request.created_at if request else SOONEST
    return ctx.now + max(SOONEST, min(waited / 30, LATEST))
