"""What hinders a start is said in a sentence: a taken port, a folder that cannot be used, no disk."""

import os
import shutil
import socket
import subprocess
import sys
from collections import namedtuple
from pathlib import Path

import pytest

from calm_tariff.launch.children import free_port
from calm_tariff.launch.database import CannotStart, Database

ROOT = Path(__file__).parents[2]


def start(**environment: object) -> subprocess.CompletedProcess[str]:
    ports = {f"CALM_{n}_PORT": free_port() for n in ("WEB", "GATEWAY", "STANDINS", "MAIL", "DATABASE")}
    wanted = {**ports, **environment}
    return subprocess.run(
        [sys.executable, "-m", "calm_tariff.cli", "start"], capture_output=True, text=True, cwd=ROOT, timeout=120,
        env={**os.environ, "PYTHONPATH": str(ROOT), **{name: str(value) for name, value in wanted.items()}},
    )  # fmt: skip


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
