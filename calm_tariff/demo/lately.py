"""What has happened in the demo of late, once its history is there."""

from __future__ import annotations

from calm_tariff.demo.addresses import tell_what_the_ledger_calls_them
from calm_tariff.demo.alerts import set_alerts
from calm_tariff.demo.colleagues import bring_colleagues
from calm_tariff.demo.community import let_them_talk
from calm_tariff.demo.desk import lay_out_the_desk, person_of
from calm_tariff.demo.hooks import let_others_hear
from calm_tariff.demo.moves import move_as_told
from calm_tariff.demo.release_notes import tell_what_was_new
from calm_tariff.demo.serving import serve_as_told
from calm_tariff.services.base.context import Context


def lately(today: Context, now: Context, standins: str) -> None:
    """Have it happen: what people did this morning, `today`, and what is looked at `now`."""
    serve_as_told(today, standins)
    tell_what_was_new(today)
    let_others_hear(person_of(today, "Tomas"), standins)
    move_as_told(today)
    bring_colleagues(today)
    tell_what_the_ledger_calls_them(person_of(today, "Beatriz"))
    lay_out_the_desk(today, now)
    set_alerts(now)
    let_them_talk(now)
