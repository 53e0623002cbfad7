"""Who may do what in the database."""

from __future__ import annotations

import os
import pwd
import stat
import tempfile
from pathlib import Path

import pytest
from sqlalchemy import text
from sqlalchemy.exc import OperationalError, ProgrammingError

from calm_tariff.launch.database import SERVING, USER, Database
from calm_tariff.services.base import jobs
from calm_tariff.services.base.context import context_for
from calm_tariff.store.base.connecting import engine
from calm_tariff.store.migrate import upgrade
from calm_tariff.store.tables import metadata
from tests.ports import free_port
from tests.servers import RunDatabase


def test_who_serves_reads_and_writes_rows_and_nothing_else(database: RunDatabase) -> None:
    upgrade(database.make_schema("calm_serving"))
    with database.connect() as owner, owner.cursor() as cursor:  # as an earlier version did
        calls = f"`{database.own('calm_serving')}`.`call`"
        cursor.execute(f"GRANT SELECT, ALTER, CREATE ON {calls} TO {SERVING}@'127.0.0.1'")
    serving = engine(database.let_serve("calm_serving", metadata.tables))
    forbidden = [
        "DROP TABLE `call`",
        "TRUNCATE TABLE `call`",
        "ALTER TABLE invoice ADD COLUMN x INT",
        "ALTER TABLE `call` DROP PARTITION beyond",
        "CREATE TABLE x (y INT)",
        "CREATE DATABASE calm_other",
        "DROP DATABASE calm_serving",
        "UPDATE audit_entry SET actor = 'nobody'",
        "DELETE FROM audit_entry",
        "UPDATE audit_entry SET erased_by = 2",
        "DROP PROCEDURE empty_entry",
        "CREATE PROCEDURE fill_entry() UPDATE audit_entry SET why = 'another'",
        "UPDATE plan_revision SET number = 1",
        "DELETE FROM terms_of_use",
        "SELECT * FROM mysql.global_priv",
        "SELECT * FROM alembic_version",
        "GRANT ALL ON *.* TO calm@'127.0.0.1'",
        "SET GLOBAL max_connections = 1",
        "SELECT 'x' INTO OUTFILE '/tmp/calm-out'",
        "SELECT LOAD_FILE('/etc/passwd')",
        "CREATE USER x@localhost",
        "KILL 1",
    ]
    for statement in forbidden:
        with serving.connect() as connection:
            try:
                got = (
                    connection.execute(text(statement)).scalar()
                    if statement.startswith("SELECT LOAD")
                    else (connection.execute(text(statement)))
                )
            except (OperationalError, ProgrammingError):
                continue
            assert got is None, statement  # a file that may not be read reads as nothing
    for table in metadata.tables:
        with serving.connect() as connection:
            connection.execute(text(f"SELECT 1 FROM `{table}` LIMIT 1"))
    ctx = context_for(serving)
    jobs.schedule(ctx, ["a chore"])
    assert jobs.claim(ctx, {"a chore": jobs.LEASE}) is not None
    serving.dispose()


def test_what_goes_wrong_in_the_database_shows_no_values(database: Database) -> None:
    url = database.make_schema("calm_serving")
    upgrade(url)
    with engine(url).connect() as connection, pytest.raises(ProgrammingError) as wrong:
        connection.execute(text("INSERT INTO nowhere VALUES (:hash)"), {"hash": "$argon2id$secret"})
    assert "argon2id" not in str(wrong.value)


def test_an_account_of_an_earlier_version_loses_what_it_could_do(database: Database) -> None:
    with database.connect() as connection, connection.cursor() as cursor:
        cursor.execute(
            "SELECT COUNT(*) FROM information_schema.user_privileges WHERE grantee = %s AND privilege_type <> 'USAGE'",
            (f"'{SERVING}'@'127.0.0.1'",),
        )
        assert cursor.fetchone() == (0,)


@pytest.mark.skipif(os.geteuid() != 0, reason="only who may choose the user can start it as another")
def test_the_server_runs_as_its_own_user_where_it_can_reach_its_folder(monkeypatch: pytest.MonkeyPatch) -> None:
    with tempfile.TemporaryDirectory() as folder, tempfile.TemporaryDirectory() as sockets:
        Path(folder).chmod(0o755)
        Path(sockets).chmod(0o755)
        monkeypatch.setattr(tempfile, "tempdir", sockets)
        server = Database(Path(folder) / "mariadb", free_port())
        server.start()
        try:
            assert server.process
            uid = Path(f"/proc/{server.process.pid}").stat().st_uid
            assert pwd.getpwuid(uid).pw_name == USER
            for path in ("password-calm", "password-calm_owner", "grants.sql", "mariadbd.log"):
                assert stat.S_IMODE((server.home / path).stat().st_mode) == 0o600, path
            upgrade(server.make_schema("calm_x"))
        finally:
            server.stop()
        server.start()  # and again, over what is there
        server.kill()
        server.start()
        server.process.kill()  # by somebody else
        server.process.wait()
        server.start()
        server.stop()
        assert list(Path(sockets).iterdir()) == []
