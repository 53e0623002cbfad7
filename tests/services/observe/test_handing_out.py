"""All data of a consumer in one archive, nothing of another's, and nothing that lets somebody in."""

from __future__ import annotations

import io
import json
import zipfile
from typing import Any

import pytest

from calm_tariff.core.errors import NotAllowed, NotFound
from calm_tariff.services.admit import credentials
from calm_tariff.services.base import auditing
from calm_tariff.services.base.auditing import EntryFilter
from calm_tariff.services.observe import handing_out
from calm_tariff.store.base.paging import PageQuery
from tests.office import Office
from tests.services.observe.test_erasing import FATHOM, closed, fathom


def opened(parts: Any) -> dict[str, list[dict[str, Any]]]:
    archive = zipfile.ZipFile(io.BytesIO(b"".join(parts)))
    assert archive.testzip() is None
    names = [name for name in archive.namelist() if name.endswith(".jsonl")]
    return {name[:-6]: [json.loads(line) for line in archive.read(name).decode().splitlines()] for name in names}


def test_an_archive_holds_all_of_a_consumers_rows_exactly(office: Office) -> None:
    consumer = fathom(office)
    closed(office, consumer)
    parts = list(handing_out.begin(office.manager, consumer))
    files = opened(parts)
    assert [m["name"] for m in files["member"]] == ["Léonor Vaz", "Tomé Marés"]
    assert files["consumer"][0]["name"] == FATHOM and files["consumer_reference"][0]["reference"] == FATHOM
    assert [a["name"] for a in files["application"]] == ["Marés board"]
    assert len(files["call"]) == 40 and {c["sent"]["address"] for c in files["call"]} == {"203.0.113.77"}
    (invoice,) = files["money_document"]
    assert invoice["total"].count(".") == 1 and isinstance(invoice["total"], str)  # a sum is exact, no float
    assert {m["text"] for m in files["request_message"]} >= {"Ask l@fathom.example.", "Well, Léonor."}
    assert any(letter["recipient"] == "m@fathom.example" for letter in files["mail"])
    about = json.loads(zipfile.ZipFile(io.BytesIO(b"".join(parts))).read("about.json"))
    assert about["consumer"] == FATHOM
    assert about["rows"] == {f"{name}.jsonl": len(rows) for name, rows in files.items()}
    told = EntryFilter(action="handed out all data of a consumer")
    (entry,) = auditing.entries(office.manager, PageQuery(), told).rows
    assert entry.actor == "Ines" and entry.subject == FATHOM


def test_nothing_of_anybody_else_is_in_it_and_nothing_said_inside(office: Office) -> None:
    ferries, kayaks = office.consumers
    made = credentials.make_key(office.acting(kayaks), kayaks.application, "theirs")
    consumer = fathom(office)
    whole = json.dumps(opened(handing_out.begin(office.manager, consumer)), ensure_ascii=False)
    for other in ("Ferries", "Kayaks", ferries.email, kayaks.secret, made.key.prefix):
        assert other not in whole
    for inside in ("Who is Léonor?", "Léonor is kind.", "argon2", "join#", "hash"):
        assert inside not in whole


def test_it_is_for_a_product_manager_or_an_owner_of_the_house(office: Office) -> None:
    consumer = office.consumers[0].member.consumer_id
    for other in (office.reviewer, office.finance):
        with pytest.raises(NotAllowed):
            handing_out.begin(other, consumer)
    with pytest.raises(NotFound):
        handing_out.begin(office.manager, 10**9)
