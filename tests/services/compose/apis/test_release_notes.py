"""Release notes: written by who composes, read by consumers from their day on and of what they may see."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime, timedelta

import pytest

from calm_tariff.core.errors import Invalid, NotAllowed, NotFound, NotSignedIn, Stale
from calm_tariff.services.admit.portals import portals, storefront
from calm_tariff.services.admit.portals.portals import PortalTyped
from calm_tariff.services.compose.apis import release_notes, sunsets
from tests.office import START, Office

TODAY = START.date()


def read(office: Office) -> list[tuple[str, str]]:
    return [(str(note.day), note.html.strip()) for note in storefront.release_notes_of(office.ctx, "harbour-data")]


def test_what_was_new_is_read_from_its_day_on_the_newest_first(office: Office) -> None:
    written = [
        release_notes.write(office.manager, office.api, TODAY + timedelta(days=n), f"It was *{n}*.") for n in (-3, 0, 1)
    ]
    days = [str(TODAY + timedelta(days=n)) for n in (0, -3)]
    assert read(office) == [(days[0], "<p>It was <em>0</em>.</p>"), (days[1], "<p>It was <em>-3</em>.</p>")]
    assert [note.id for note in release_notes.of_version(office.manager, office.api)] == [w.id for w in written[::-1]]
    # In Lisbon the next day begins an hour before it does in UTC.
    late = datetime(TODAY.year, TODAY.month, TODAY.day, 23, 30, tzinfo=UTC)
    assert len(storefront.release_notes_of(replace(office.ctx, clock=lambda: late), "harbour-data")) == 3


def test_a_note_is_changed_by_who_saw_it_last_and_taken_away(office: Office) -> None:
    note = release_notes.write(office.manager, office.api, TODAY, "Heights in metres. <script>alert(1)</script>")
    assert "<script>" not in note.html
    changed = release_notes.change(office.manager, note.id, note.edition, TODAY, "Heights in feet.")
    with pytest.raises(Stale) as other:
        release_notes.change(office.manager, note.id, note.edition, TODAY, "Heights in fathoms.")
    assert other.value.current == changed
    for text in ("  ", "x" * (release_notes.LONGEST + 1)):
        with pytest.raises(Invalid, match="text"):
            release_notes.change(office.manager, note.id, changed.edition, TODAY, text)
    release_notes.remove(office.manager, note.id)
    assert read(office) == []
    for gone in (
        lambda: release_notes.remove(office.manager, note.id),
        lambda: release_notes.change(office.manager, note.id, 2, TODAY, "x"),
        lambda: release_notes.write(office.manager, 10**9, TODAY, "x"),
        lambda: release_notes.of_version(office.manager, 10**9),
    ):
        with pytest.raises(NotFound):
            gone()


def test_only_who_composes_writes_and_only_who_may_see_reads(office: Office) -> None:
    note = release_notes.write(office.manager, office.api, TODAY, "Heights in metres.")
    for refused in (
        lambda: release_notes.write(office.finance, office.api, TODAY, "x"),
        lambda: release_notes.change(office.finance, note.id, 1, TODAY, "x"),
        lambda: release_notes.remove(office.finance, note.id),
        lambda: release_notes.of_version(office.acting(office.consumers[0]), office.api),
    ):
        with pytest.raises((NotAllowed, NotSignedIn)):
            refused()
    made = portals.create(office.manager, "quay", "Quay")
    portals.save(office.manager, made.id, made.edition, replace(PortalTyped(brand=made.brand), everything=False))
    here = office.ctx.acting(replace(office.consumers[0].member, portal_id=made.id))
    with pytest.raises(NotFound):
        storefront.release_notes_of(here, "harbour-data")
    sunsets.set_state(office.manager, office.api, "sunset", TODAY + timedelta(days=30))
    assert len(read(office)) == 1
    sunsets.set_state(office.manager, office.api, "gone", None)
    assert read(office) == []
