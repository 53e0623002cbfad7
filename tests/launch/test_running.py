"""A real installation: what it prints is enough to begin, and what it keeps is its user's alone."""

from __future__ import annotations

import os
import re
import signal
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import httpx
import pytest

from calm_tariff.launch.children import die_with_parent
from tests.ports import free_port
from tests.processes import PATIENCE, ROOT, wait_for

PORTS = ("WEB", "GATEWAY", "STANDINS", "MAIL", "DATABASE", "METRICS", "DECISIONS")


@contextmanager
def started(folder: Path, log: Path) -> Iterator[subprocess.Popen[bytes]]:
    """`./calm start` in a folder, until told to stop; all it prints is in the log."""
    ports = {f"CALM_{name}_PORT": str(free_port()) for name in PORTS}
    environment = {**os.environ, "PYTHONPATH": str(ROOT), "CALM_VAR": str(folder), "CALM_OWNER": "kei@isle.example"}
    with log.open("wb") as out:
        running = subprocess.Popen(
            [sys.executable, "-u", "-m", "calm_tariff.cli", "start"],
            stdout=out,
            stderr=out,
            cwd=ROOT,
            env=environment | ports,
            preexec_fn=die_with_parent(signal.SIGTERM),
        )
    try:
        wait_for(lambda: running.poll() is not None or "Ctrl-C stops everything" in log.read_text(), 300)
        assert running.poll() is None, log.read_text()
        yield running
    finally:
        running.terminate()
        running.wait(3 * PATIENCE)


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    tmp_path.chmod(0o755)  # the database may run as a user of its own, which goes through it
    return tmp_path / "var"


def found(log: Path, words: str) -> str:
    match = re.search(words, log.read_text())
    assert match, log.read_text()
    return match.group(1)


def test_what_a_new_installation_prints_is_enough_to_begin(folder: Path, tmp_path: Path) -> None:
    log = tmp_path / "said"
    with started(folder, log) as running:
        password = wait_for(lambda: re.search(r"password (\S+)", log.read_text())).group(1)
        console = found(log, r"console +(\S+)")
        typed = {"email": "kei@isle.example", "password": password}
        with httpx.Client(base_url=console, headers={"Origin": console.rstrip("/")}) as web:
            assert web.post("/api/v1/session", json=typed).status_code == 204
            assert web.get("/api/v1/me").json()["roles"] == ["product manager", "owner"]
        gateway = found(log, r"gateway +(\S+)")
        assert httpx.get(f"{gateway}/readyz").status_code == 200
        assert_nobody_else_reads(folder)
        assert_no_secret_on_a_command_line(folder)
        kept = {path.name: path.read_bytes() for path in secrets(folder)}
        assert len(kept) == 8
    assert running.returncode == 0 and "Everything is stopped." in log.read_text()

    with started(folder, log):  # a secret is made once, and so is the first sign-in
        assert {path.name: path.read_bytes() for path in secrets(folder)} == kept
        console = found(log, r"console +(\S+)")
        with httpx.Client(base_url=console, headers={"Origin": console.rstrip("/")}) as web:
            assert web.post("/api/v1/session", json=typed).status_code == 204
        assert "password" not in log.read_text()


def secrets(folder: Path) -> list[Path]:
    return [*folder.glob("mariadb/password-*"), *folder.glob("calm/*-token"), *folder.glob("calm/*-secret")]


def assert_nobody_else_reads(folder: Path) -> None:
    """Whatever holds something: calls, secrets, logs, the database's own files."""
    for inside in (folder / "calm", folder / "mariadb" / "data"):
        assert inside.stat().st_mode & 0o077 == 0, inside
    for path in (*folder.glob("mariadb/password-*"), folder / "mariadb" / "grants.sql", *secrets(folder)):
        assert path.stat().st_mode & 0o077 == 0, path


def assert_no_secret_on_a_command_line(folder: Path) -> None:
    told = [path.read_bytes().strip() for path in secrets(folder)]
    for process in Path("/proc").glob("[0-9]*"):
        try:
            command = (process / "cmdline").read_bytes()
        except OSError:
            continue
        assert not any(secret in command for secret in told), process
