"""What was new in the office's APIs lately, as its consumers read it."""

from __future__ import annotations

from datetime import timedelta

from calm_tariff.services.base.context import Context
from calm_tariff.services.compose.apis import release_notes, versions

# Days before today, the version, and what was new.
NOTES = (
    (
        92,
        "Tides v2",
        "**Heights by the minute.** `step_minutes` says how many lie between two.",
    ),
    (61, "Berths v1", "A berth can be *held* for an hour: `POST /harbours/{harbour}/berths/{berth}:hold`."),
    (34, "Tides v2", "High and low water of thirty days ahead; it was fourteen."),
    (20, "Sea State v1", "Summaries of whole areas name the buoys that they are made from."),
    (
        12,
        "Tides v1",
        "This version ends next year. Its successor answers the same questions:\n\n"
        "- heights are in `predictions`, as before\n- times are in UTC, with their offset",
    ),
    (3, "Tides v2", "Saltgrave's mean level was surveyed anew; its heights differ by up to 2 cm from those of before."),
)


def tell_what_was_new(manager: Context) -> None:
    """Write the notes."""
    known = {f"{v.name} {v.version}": v.id for v in versions.summaries(manager)}
    today = manager.now.date()
    for days, version, text in NOTES:
        release_notes.write(manager, known[version], today - timedelta(days=days), text)
