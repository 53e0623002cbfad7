"""The demo's data is loaded while everything runs, to its end or anew."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from threading import Event, Thread
from typing import Any

import pytest
from sqlalchemy import inspect
from starlette.testclient import TestClient

from calm_tariff.console_api import app as console
from calm_tariff.demo.load import Loaded
from calm_tariff.demo.scenario import PASSWORD, STAFF
from calm_tariff.formats import callers
from calm_tariff.formats.callers import Asked, LiveCaller
from calm_tariff.launch import demonstration
from calm_tariff.launch.demonstration import Demonstration
from calm_tariff.services.base.context import Context, context_for
from calm_tariff.services.house.installation import installed
from calm_tariff.settings import Settings
from calm_tariff.store.base.connecting import engine
from calm_tariff.store.migrate import upgrade
from calm_tariff.web import create_app
from tests.edge.test_isolation import routes
from tests.servers import RunDatabase

LIVE = LiveCaller("lt_live_a", 12.0, (Asked("GET", ("/tides/v1/stations",), 1),))


@pytest.fixture
def fresh(database: RunDatabase) -> Iterator[Context]:
    """An installation with its tables and nothing in them."""
    database.drop_schema(database.own("calm_demonstration"))
    url = database.make_schema("calm_demonstration")
    upgrade(url)
    made = engine(url)
    yield context_for(made)
    made.dispose()


@pytest.fixture
def begun(tmp_path: Path) -> Demonstration:
    settings = Settings(demo=True, var=tmp_path / "calm_demo")

    def anew(name: str) -> None:
        # Whoever called before the gateway knows what is spent would be served once more.
        assert settings.callers.exists() == (name == "worker")
        assert (settings.var / "loading").exists()
        (settings.var / f"{name} anew").touch()

    return Demonstration(settings, Event(), anew)


def loading(begun: Demonstration, ctx: Context, monkeypatch: pytest.MonkeyPatch, load: Any) -> Thread:
    """What loads, told to do this instead, and done with it."""
    monkeypatch.setattr(demonstration, "load", load)
    thread = begun.begin(ctx)
    assert thread
    thread.start()
    thread.join()
    return thread


def test_who_works_here_can_sign_in_and_open_every_page_before_anything_is_loaded(
    fresh: Context, begun: Demonstration
) -> None:
    assert begun.begin(fresh)
    web = TestClient(create_app(fresh, begun.settings), base_url="http://127.0.0.1:8400")
    for email, name, _ in reversed(STAFF):  # the first of them, who owns the house, last
        entered = web.post("/api/v1/session", json={"email": email, "password": PASSWORD})
        assert entered.status_code == 204, (name, entered.text)
    read = [path for method, path in routes(console.create_app(fresh, begun.settings)) if method == "GET"]
    whole = [path for path in read if "{" not in path and path not in ("/find", "/bench/recorded", "/traffic/live")]
    assert len(whole) > 20
    for path in whole:
        answer = web.get(f"/api/v1{path}")
        assert answer.status_code == 200, (path, answer.text)
    for path in ("/me", "/products"):
        assert web.get(f"/portal/api/v1{path}").status_code == 200


def test_what_is_loaded_is_said_and_callers_are_told_to_the_stand_ins_alone(
    fresh: Context, begun: Demonstration, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    loading(begun, fresh, monkeypatch, lambda *_, **__: Loaded(247_030, [LIVE], "a,b\n"))
    assert "247,030 calls" in capsys.readouterr().out
    assert {path.name for path in begun.settings.var.glob("* anew")} == {"gateway anew", "worker anew"}
    assert (begun.settings.var / "late-usage.csv").read_text() == "a,b\n"
    kept = begun.settings.callers
    assert callers.read(kept.read_bytes()) == (LIVE,) and kept.stat().st_mode & 0o077 == 0
    assert begun.begin(fresh) is None  # another start loads nothing


def test_what_was_not_loaded_to_its_end_is_thrown_away_by_the_next_start(
    fresh: Context,
    database: RunDatabase,
    begun: Demonstration,
    monkeypatch: pytest.MonkeyPatch,
    capsys: pytest.CaptureFixture[str],
) -> None:
    def broken(*_: object, **__: object) -> Loaded:
        raise ValueError("the tide is out")

    loading(begun, fresh, monkeypatch, broken)
    assert "could not be loaded: ValueError: the tide is out" in capsys.readouterr().err
    assert installed(fresh) and not begun.settings.callers.exists()
    segment = begun.settings.journal / "gateway-1" / "1.open"
    segment.parent.mkdir(parents=True)
    segment.touch()
    begun.clear_half(database, database.own("calm_demonstration"))
    assert not segment.exists() and "loaded anew" in capsys.readouterr().out
    url = database.make_schema("calm_demonstration")
    assert inspect(engine(url)).get_table_names() == []
    upgrade(url)
    loading(begun, context_for(engine(url)), monkeypatch, lambda *_, **__: Loaded(1, [LIVE], ""))
    begun.clear_half(database, database.own("calm_demonstration"))
    assert installed(context_for(engine(url)))  # loaded to its end, it stays


def test_loading_that_is_broken_off_by_stopping_is_no_fault(
    fresh: Context, begun: Demonstration, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    def stopped(*_: object, **__: object) -> Loaded:
        begun.stop.set()
        raise ConnectionError("the database is gone")

    loading(begun, fresh, monkeypatch, stopped)
    assert capsys.readouterr().err == ""
    assert not begun.settings.callers.exists()


def test_callers_that_cannot_be_kept_are_said_and_everything_is_loaded_anew(
    fresh: Context, begun: Demonstration, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    def full(*_: object) -> int:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(Path, "write_bytes", full)
    loading(begun, fresh, monkeypatch, lambda *_, **__: Loaded(1, [LIVE], ""))
    assert "No space left on device" in capsys.readouterr().err
    assert not begun.settings.callers.exists() and (begun.settings.var / "loading").exists()
