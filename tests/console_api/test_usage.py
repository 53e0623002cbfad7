"""Another gateway's calls over HTTP, as its script sends them, and from the command line."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterator
from pathlib import Path
from threading import Event, Thread

import pytest
from sqlalchemy import func, select
from starlette.testclient import TestClient

from calm_tariff import cli
from calm_tariff.services.house import service_tokens
from calm_tariff.services.serve.elsewhere import at_once
from calm_tariff.settings import Settings
from calm_tariff.store.serve.outside_usage import UsageFile
from calm_tariff.store.serve.usage import HourlyUsage
from calm_tariff.web import create_app
from tests.console_api.loopback import on_loopback
from tests.console_api.test_consumer_data import script
from tests.office import Office
from tests.processes import PATIENCE
from tests.services.serve.elsewhere.sent import done, row, sums, text

HERE = "/api/v1/usage"


@pytest.fixture
def finance(office: Office) -> TestClient:
    return script(office, "finance")


def test_a_script_sends_a_batch_and_each_call_counts_once(office: Office, finance: TestClient) -> None:
    rows = [row(office, n) for n in range(3)]
    first = finance.post(HERE, content=text(rows), headers={"content-type": "text/csv"})
    assert (first.status_code, first.json()["recorded"]) == (200, 3)
    again = finance.post(HERE, content="\n".join(map(json.dumps, rows)))
    assert (again.json()["recorded"], again.json()["known"]) == (0, 3)
    lines = {**rows[0], "id": "9"}
    bare = finance.post(f"{HERE}?source=edge-9", content=text([{k: v for k, v in lines.items() if k != "source"}]))
    assert bare.json()["recorded"] == 1, bare.text
    assert sums(office) == (4, 4)


def test_a_batch_with_a_row_of_no_use_is_refused_in_words_and_changes_nothing(
    office: Office, finance: TestClient
) -> None:
    rows = [row(office, 1), row(office, 2, status="99")]
    refused = finance.post(HERE, content=text(rows))
    assert (refused.status_code, refused.json()["where"]) == (422, "rows")
    assert "line 3: status: must be an HTTP status code" in refused.json()["detail"]
    assert sums(office) == (0, 0)
    taken = finance.post(f"{HERE}?leaving_out=true", content=text(rows)).json()
    assert (taken["recorded"], [each["line"] for each in taken["left_out"]]) == (1, [3])
    head = text(rows).split(b"\r\n", 1)[0]
    for odd in (b"", b"\xff\xfe", b"[", b"[]", b"[null]", b"{}", b"a,b\n1,2\n", b"null", head):
        assert finance.post(HERE, content=odd).status_code == 422, odd
    assert finance.post(f"{HERE}/files", content=b"[]").status_code == 422


def test_nobody_sends_without_being_known_or_more_than_may_be(office: Office, finance: TestClient) -> None:
    file = text([row(office, 1)])
    stranger = TestClient(create_app(office.ctx, Settings()), base_url="http://127.0.0.1:8400")
    assert stranger.post(HERE, content=file).status_code == 401
    assert script(office, "reviewer").post(HERE, content=file).status_code == 403
    assert finance.post(HERE, content=b"x" * (at_once.MOST_BYTES + 1)).status_code == 413
    token = service_tokens.make_for_machine(office.ctx, "narrow", "finance", scopes=("read serve",))
    narrow = {"Authorization": f"Bearer {token}"}
    assert stranger.post(HERE, content=file, headers=narrow).status_code == 403


def test_a_file_is_checked_recorded_and_listed(office: Office, finance: TestClient) -> None:
    rows = [row(office, 1), row(office, 2, status="99"), row(office, 3)]
    taken = finance.post(f"{HERE}/files?name=late.csv", content=text(rows))
    assert (taken.status_code, taken.json()["stage"]) == (201, "checking")
    place = f"{HERE}/files/{taken.json()['id']}"
    assert finance.put(f"{place}/recording", json={}).status_code == 409
    done(office.ctx, taken.json()["id"])
    assert finance.get(place).json()["stage"] == "checked"
    refused = finance.put(f"{place}/recording", json={})
    assert (refused.status_code, "agree to leave them out" in refused.json()["detail"]) == (409, True)
    (month,) = finance.get(f"{place}/months").json()
    assert (month["consumer"], month["calls"], month["units"][0]["units"]) == ("Ferries", 2, "2")
    assert finance.put(f"{place}/recording", json={"leaving_out": True}).status_code == 200
    assert finance.delete(f"{place}/recording").json()["stage"] == "stopped"
    assert finance.put(f"{place}/recording", json={"leaving_out": True}).json()["stage"] == "recording"
    done(office.ctx, taken.json()["id"])
    told = list(csv.DictReader(io.StringIO(finance.get(f"{HERE}/files.csv").text)))
    assert [(each["name"], each["stage"], each["recorded"]) for each in told] == [("late.csv", "done", "2")]
    (left,) = csv.DictReader(io.StringIO(finance.get(f"{place}/unusable.csv").text))
    assert left["line"] == "3"
    assert finance.delete(place).status_code == 409
    calls = finance.get(f"/api/v1/calls?usage_file={taken.json()['id']}&consumer={month['consumer_id']}").json()
    assert (calls["total"], {each["elsewhere"] for each in calls["rows"]}) == (2, {True})
    assert finance.get(f"/api/v1/calls?usage_file={taken.json()['id']}").status_code == 422


@pytest.fixture
def served(office: Office, monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """The API for the command line, with somebody who does what is to be done."""
    over = Event()

    def work() -> None:
        while not over.wait(0.05):
            with office.ctx.transaction() as session:
                going = UsageFile.stage.in_(("checking", "recording"))
                found = session.scalars(select(UsageFile.id).where(going)).all()
            for each in found:
                done(office.ctx, each)

    worker = Thread(target=work, daemon=True)
    worker.start()
    with on_loopback(office) as address:
        monkeypatch.setenv("CALM_ADDRESS", address)
        monkeypatch.setenv("CALM_TOKEN", service_tokens.make_for_machine(office.ctx, "import", "finance"))
        yield
    over.set()
    worker.join(PATIENCE)


def run(*words: str) -> int:
    return cli.main(["usage", "import", *words])


def test_the_command_line_brings_a_file_in_once(
    office: Office, served: None, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    file = tmp_path / "late.csv"
    rows = [row(office, n) for n in range(40)]
    file.write_bytes(text(rows))
    assert run(str(file)) == 0
    assert "40 calls recorded, 0 recorded already" in capsys.readouterr().out
    file.write_bytes(text([{**rows[0], "bytes_out": "7"}, *rows[1:], row(office, 40, status="?")]))
    assert run(str(file)) == 1
    said = capsys.readouterr().err
    assert "line 42: status" in said
    assert "nothing is recorded. --leave-out records the other 0" in said
    assert run(str(file), "--leave-out") == 0
    said = capsys.readouterr().out
    assert "0 calls recorded, 40 recorded already" in said
    assert "1 call set aside, for saying something else" in said
    assert "1 row left out as unusable" in said
    assert sums(office) == (40, 40)


def test_the_command_line_says_in_a_line_what_is_wrong(
    office: Office, served: None, tmp_path: Path, capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    file = tmp_path / "x.csv"
    file.write_text("a,b\n1,2\n")
    assert run(str(file)) == 2
    assert "column 'a'" in capsys.readouterr().err
    file.write_bytes(text([row(office, 1)]) + b'"open,\n')
    assert run(str(file)) == 2
    assert "is no CSV" in capsys.readouterr().err
    assert run(str(tmp_path / "none.csv")) == 2
    assert "cannot be read" in capsys.readouterr().err
    monkeypatch.setenv("CALM_TOKEN", service_tokens.make_for_machine(office.ctx, "other", "reviewer"))
    assert run(str(file)) == 2
    assert "this is for" in capsys.readouterr().err
    monkeypatch.delenv("CALM_TOKEN")
    assert run(str(file)) == 2
    assert "Set CALM_TOKEN" in capsys.readouterr().err
    with office.ctx.transaction() as session:
        assert session.scalars(select(UsageFile)).all() == []


def test_a_script_strikes_out_what_it_saw_and_undoes_it(office: Office, finance: TestClient) -> None:
    finance.post(HERE, content=text([row(office, n) for n in range(4)]))
    which = {"source": "edge", "ids": ["1", "2"]}
    shown = finance.post("/api/v1/strikes/preview", json=which).json()
    assert (shown["calls"], shown["consumer"], shown["months"][0]["units"][0]["units"]) == (2, "Ferries", "2")
    assert finance.post("/api/v1/strikes", json={"which": which, "why": "Tests.", "calls": 3}).status_code == 409
    key = {"Idempotency-Key": "once"}
    for _ in range(2):
        made = finance.post("/api/v1/strikes", json={"which": which, "why": "Tests.", "calls": 2}, headers=key)
        assert (made.status_code, made.json()["calls"]) == (201, 2), made.text
    assert office_units(office) == 2
    for wrong in (
        {},
        {"consumer": -1},
        {"source": "edge", "ids": ["none"]},
        {"consumer": 1, "first_day": "1950-01-01"},
    ):
        assert finance.post("/api/v1/strikes/preview", json=wrong).status_code in (404, 422), wrong
    today = {"consumer": shown["consumer_id"], "first_day": "2026-09-10", "last_day": "2026-09-10"}
    assert finance.post("/api/v1/strikes/preview", json=today).json()["calls"] == 2
    place = f"/api/v1/strikes/{made.json()['id']}"
    assert finance.get(place).json()["why"] == "Tests."
    assert len(list(csv.DictReader(io.StringIO(finance.get("/api/v1/strikes.csv").text)))) == 1
    assert finance.post(f"{place}/undo", json={"why": ""}).status_code == 422
    assert finance.post(f"{place}/undo", json={"why": "No."}).json()["undone_why"] == "No."
    assert office_units(office) == 4
    assert script(office, "operations").post("/api/v1/strikes/preview", json=which).status_code == 200
    refused = script(office, "operations").post("/api/v1/strikes", json={"which": which, "why": "x", "calls": 2})
    assert refused.status_code == 403


def office_units(office: Office) -> int:
    with office.ctx.transaction() as session:
        return int(session.scalar(select(func.sum(HourlyUsage.units))) or 0)
