"""Which version this is, what runs in a folder, and how each process of it is."""

from __future__ import annotations

import json
import os
import re
from datetime import UTC, datetime, timedelta
from pathlib import Path

from calm_tariff import version as versions
from calm_tariff.launch.status import in_words
from calm_tariff.services.base.context import context_for
from calm_tariff.services.serve import instances
from calm_tariff.services.serve.instances import InstanceView
from calm_tariff.store.base.connecting import engine
from calm_tariff.store.migrate import upgrade
from calm_tariff.store.tables import metadata
from tests.launch.test_start import start
from tests.servers import RunDatabase


def test_the_version_is_the_packages_with_the_commit_of_a_checkout(monkeypatch, tmp_path: Path) -> None:
    assert re.fullmatch(r"\d+\.\d+\.\d+( \([0-9a-f]{8,}\+?\))?", versions.version())
    monkeypatch.setattr(versions, "ROOT", tmp_path)  # no checkout
    (tmp_path / "pyproject.toml").write_text('[project]\nversion = "3.4.5"\n')
    versions.version.cache_clear()
    assert versions.version() == "3.4.5"
    (tmp_path / ".git").write_text("not a repository")
    versions.version.cache_clear()
    assert versions.version() == "3.4.5"
    versions.version.cache_clear()


def test_what_runs_in_a_folder_is_said_with_how_each_process_is(database: RunDatabase, tmp_path: Path) -> None:
    ran = start("status", CALM_VAR=tmp_path)
    assert ran.returncode == 1 and f"Nothing runs in {tmp_path}" in ran.stdout and "Traceback" not in ran.stderr
    url = database.make_schema("calm_status")
    upgrade(url)
    database.let_serve("calm_status", metadata.tables)
    running = {"schema": database.own("calm_status"), "process": os.getpid()}
    (tmp_path / "running.json").write_text(json.dumps(running))
    (tmp_path / "mariadb").symlink_to(database.home)
    reach = {"CALM_VAR": tmp_path, "CALM_DATABASE_PORT": database.port}
    assert start("status", **reach).returncode == 1  # nothing has reported yet
    ctx, began = context_for(engine(url)), datetime.now(UTC)
    ahead = context_for(engine(url), clock=lambda: began + timedelta(minutes=10))  # however slow this machine is
    instances.report(ahead, "gateway-1", "gateway", began, {"snapshot": 0})
    ran = start("status", **reach)
    assert ran.returncode == 0, ran.stdout + ran.stderr
    assert re.search(rf"^  gateway-1 +up since .*, {re.escape(versions.version())}$", ran.stdout, re.MULTILINE)
    old = context_for(engine(url), clock=lambda: began - timedelta(hours=1))
    instances.report(old, "worker", "worker", began, {})
    ran = start("status", **reach)
    assert ran.returncode == 1 and re.search(r"^  worker +silent since ", ran.stdout, re.MULTILINE)
    instances.leave(ctx, "worker")
    assert start("status", **reach).returncode == 0
    (tmp_path / "mariadb").unlink()  # as if the database were away
    ran = start("status", **{**reach, "CALM_DATABASE_PORT": 1})
    assert ran.returncode == 1 and "Traceback" not in ran.stderr


def test_what_is_out_of_the_ordinary_is_said_in_the_line() -> None:
    now = datetime(2026, 10, 1, 9, tzinfo=UTC)
    report = {"fault": "disk full", "started_again": 2, "ended_with": "signal 9", "version": "1.0"}
    of = InstanceView(
        name="gateway-1", kind="gateway", alive=True, started_at=now, seen_at=now, behind=3, report=report
    )
    assert in_words(of) == (
        "up since 2026-10-01 09:00 UTC, started again 2 times, last ended signal 9, cannot record calls: disk full, "
        "3 changes behind, 1.0"
    )
