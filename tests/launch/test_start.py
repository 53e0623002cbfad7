"""What hinders a start is said in a sentence: a taken port, a folder that cannot be used, no disk."""

import json
import os
import shutil
import socket
import subprocess
from collections import namedtuple
from decimal import Decimal
from pathlib import Path

import pytest

from calm_tariff.launch import start as start_module
from calm_tariff.launch.database import CannotStart, Database
from calm_tariff.services.base.context import context_for, provider_of
from calm_tariff.services.house import service_tokens
from calm_tariff.services.house.people import PEOPLE
from calm_tariff.services.house.signing_in import sessions
from calm_tariff.settings import Settings
from calm_tariff.store.base.connecting import engine
from calm_tariff.store.migrate import upgrade
from calm_tariff.store.tables import metadata
from tests.forked import ran
from tests.ports import free_port
from tests.servers import RunDatabase

ROOT = Path(__file__).parents[2]


def start(*command: str, **environment: object) -> subprocess.CompletedProcess[str]:
    """Run a command, `start` where none is given."""
    ports = {f"CALM_{n}_PORT": free_port() for n in ("WEB", "GATEWAY", "STANDINS", "MAIL", "DATABASE")}
    wanted = {**ports, **environment}
    return ran(*(command or ("start",)), environment={name: str(value) for name, value in wanted.items()})


def test_a_taken_port_is_named_with_the_way_to_another(tmp_path: Path) -> None:
    with socket.socket() as taken:
        taken.bind(("127.0.0.1", 0))
        taken.listen()
        port = taken.getsockname()[1]
        ran = start(CALM_VAR=tmp_path / "var", CALM_GATEWAY_PORT=port)
    assert ran.returncode == 1
    assert f"port {port} (gateway)" in ran.stderr
    assert "CALM_GATEWAY_PORT" in ran.stderr
    assert "Traceback" not in ran.stderr


def test_a_folder_that_cannot_be_used_is_named(tmp_path: Path) -> None:
    (tmp_path / "file").write_text("no folder")
    ran = start(CALM_VAR=tmp_path / "file" / "var")
    assert ran.returncode == 1
    assert f"{tmp_path / 'file'}" in ran.stderr
    assert "CALM_VAR" in ran.stderr
    assert "Traceback" not in ran.stderr


def test_a_full_disk_is_said_before_anything_is_made(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    usage = namedtuple("usage", "total used free")
    monkeypatch.setattr(shutil, "disk_usage", lambda path: usage(10**12, 10**12, 10**6))
    with pytest.raises(CannotStart, match="Less than 300 MB are free"):
        Database(tmp_path / "mariadb", free_port()).start()
    assert not (tmp_path / "mariadb" / "data").exists()


@pytest.mark.parametrize(
    ("setting", "value", "said"),
    [
        ("CALM_CURRENCY", "XXX", "ISO 4217"),
        ("CALM_TIME_ZONE", "Europe/Atlantis", "Atlantis"),
        ("CALM_TAX_PERCENT", "123", "between 0 and 100"),
        ("CALM_TAX_PERCENT", "much", "decimal"),
        ("CALM_MAIL_FROM", "nobody", "mail"),
        ("CALM_OWNER", "(x@b.cc", "mail"),
        ("CALM_REACHES", "all", "network"),
        ("CALM_PROVIDER_NAME", "a\nb", "seen"),
        ("CALM_WEB_PORT", "web", "integer"),
    ],
)
def test_a_setting_that_is_not_right_is_named_before_anything_is_made(
    tmp_path: Path, setting: str, value: str, said: str
) -> None:
    ran = start(CALM_VAR=tmp_path / "var", **{setting: value})
    assert ran.returncode == 1
    assert ran.stderr.startswith(f"{setting}: ") and said in ran.stderr, ran.stderr
    assert "Traceback" not in ran.stderr and not (tmp_path / "var").exists()


@pytest.mark.parametrize(
    "command",
    [
        ["start"],
        ["reset"],
        ["web"],
        ["gateway"],
        ["worker"],
        ["standins"],
        ["token", "A script", "finance"],
        ["openapi", "var/none"],
    ],
)
def test_no_command_shows_a_traceback_for_a_wrong_setting_or_tells_what_it_was(
    tmp_path: Path, command: list[str]
) -> None:
    wrong = {
        "CALM_VAR": tmp_path / "var",
        "CALM_TICKET_DESK": "https://desk.example",
        "CALM_TICKET_DESK_SECRET": "too short to sign",
    }
    ran = start(*command, **wrong)
    assert ran.returncode != 0 and "CALM_TICKET_DESK_SECRET: must have 32" in ran.stderr, ran.stderr
    assert "Traceback" not in ran.stderr and "too short to sign" not in ran.stderr


def test_a_new_installation_is_what_its_settings_say(database: Database) -> None:
    url = database.make_schema("calm_new")
    settings = Settings(
        provider_name="Isle Survey",
        currency="JPY",
        time_zone="Asia/Tokyo",
        tax_percent=Decimal("10"),
        mail_from="maps@isle.example",
        owner="Kei@Isle.example",
    )
    ctx = start_module._ready(url, settings)
    password = start_module._first(ctx, settings, start_module.first_provider(settings))
    with ctx.transaction() as session:
        p = provider_of(session)
        assert (p.name, p.currency, p.time_zone, p.tax_percent) == ("Isle Survey", "JPY", "Asia/Tokyo", 10)
    assert password and sessions.sign_in(ctx, PEOPLE, "kei@isle.example", password)
    other = settings.model_copy(update={"currency": "EUR"})  # later starts change nothing
    assert start_module._first(ctx, other, start_module.first_provider(other)) is None


def test_a_token_is_of_the_installation_that_runs_in_this_folder(database: RunDatabase, tmp_path: Path) -> None:
    """Whether that is a demo or not; and where none runs, that is said."""
    ran = start("token", "A script", "finance", CALM_VAR=tmp_path)
    assert ran.returncode == 2 and f"nothing runs in {tmp_path}" in ran.stderr and "Traceback" not in ran.stderr
    url = database.make_schema("calm_token")
    upgrade(url)
    (tmp_path / "running.json").write_text(json.dumps({"schema": database.own("calm_token"), "process": os.getpid()}))
    database.let_serve("calm_token", metadata.tables)
    (tmp_path / "mariadb").symlink_to(database.home)
    reach = {"CALM_VAR": tmp_path, "CALM_DATABASE_PORT": database.port}
    for role in ("no such role", "x" * 500):
        ran = start("token", "A script", role, **reach)
        assert ran.returncode == 2 and "must be of product manager" in ran.stderr and "Traceback" not in ran.stderr
    ran = start("token", "A script", "finance", **reach)
    assert ran.returncode == 0, ran.stderr
    ctx = context_for(engine(url))
    assert service_tokens.who_by(ctx, ran.stdout.strip()).roles == {"finance"}
    (tmp_path / "running.json").write_text(json.dumps({"schema": database.own("calm_token"), "process": 2**22 - 1}))
    assert f"nothing runs in {tmp_path}" in start("token", "A script", "finance", **reach).stderr
