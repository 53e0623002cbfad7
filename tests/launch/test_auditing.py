"""`./calm audit` says whether the record of what runs here is whole, and the books agree."""

from __future__ import annotations

import json
import os
import re
from pathlib import Path

from sqlalchemy import text

from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import context_for
from calm_tariff.store.base.connecting import engine
from calm_tariff.store.migrate import upgrade
from calm_tariff.store.tables import metadata
from tests.launch.test_start import start
from tests.servers import RunDatabase


def test_the_record_is_looked_through_and_what_is_wrong_is_named(database: RunDatabase, tmp_path: Path) -> None:
    ran = start("audit", CALM_VAR=tmp_path)
    assert ran.returncode == 2 and "nothing runs in" in ran.stderr and "Traceback" not in ran.stderr
    url = database.make_schema("calm_audit")
    upgrade(url)
    database.let_serve("calm_audit", metadata.tables)
    running = {"schema": database.own("calm_audit"), "process": os.getpid()}
    (tmp_path / "running.json").write_text(json.dumps(running))
    (tmp_path / "mariadb").symlink_to(database.home)
    reach = {"CALM_VAR": tmp_path, "CALM_DATABASE_PORT": database.port}
    empty = start("audit", **reach)
    assert empty.returncode == 0 and "The record: 0 entries in one chain." in empty.stdout, empty.stderr
    ctx = context_for(engine(url))
    for n in range(3):
        with ctx.transaction() as session:
            auditing.note(session, ctx, "tried", ("thing", n, f"thing {n}"))
    whole = start("audit", **reach)
    assert whole.returncode == 0 and "The record: 3 entries" in whole.stdout and "It is whole." in whole.stdout
    [kept] = re.findall(r"Its last entry is (3:[0-9a-f]{64})\n", whole.stdout)
    assert start("audit", "--kept", kept, **reach).returncode == 0
    replaced = start("audit", "--kept", kept[:-4] + "0000", **reach)
    assert replaced.returncode == 1 and "entry 3 is another one" in replaced.stdout
    with ctx.transaction() as session:
        session.execute(text("UPDATE audit_entry SET subject = 'another' WHERE id = 2"))
    broken = start("audit", **reach)
    assert broken.returncode == 1 and "It is not whole: entry 2 does not say what it said" in broken.stdout
    assert "1:" in broken.stdout  # the last entry that holds
    with ctx.transaction() as session:
        session.execute(text("UPDATE audit_entry SET subject = 'thing 1' WHERE id = 2"))
    agree = start("audit", **reach)
    assert agree.returncode == 0 and "The books agree." in agree.stdout, agree.stdout + agree.stderr
    for table, at in (("hourly_usage", "hour_us"), ("daily_usage", "day_us")):
        units = 5 if table == "hourly_usage" else 3
        fine = "key_id, operation_id, " if table == "hourly_usage" else ""
        with ctx.transaction() as session:
            session.execute(
                text(
                    f"INSERT INTO {table} ({at}, subscription_id, stay_id, {fine}meter_id, calls, units)"
                    f" VALUES (1788220800000000, 7, 1, {'1, 1, ' if fine else ''}3, {units}, {units})"
                )
            )
    differ = start("audit", "--all", **reach)
    assert differ.returncode == 1 and "Traceback" not in differ.stderr, differ.stderr
    assert "units in September 2026 (UTC), subscription 7, meter 3: calls 0, hours 5, days 3; by -3" in differ.stdout
    assert "2026-09-01 00:00 to 2026-09-01 01:00 UTC: calls 0, hours 5" in differ.stdout
    assert "2026-09-01, no subscription, meter 3: to charge 3" in differ.stdout
    away = start("audit", **{**reach, "CALM_DATABASE_PORT": 1})
    assert away.returncode == 2 and "does not answer" in away.stderr and "Traceback" not in away.stderr
