"""One installation runs in a folder, and nobody throws its data away meanwhile."""

from __future__ import annotations

import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from calm_tariff.launch import start as start_module
from calm_tariff.launch.database import CannotStart
from calm_tariff.launch.folder import alone_in, known_as, running_in
from tests.launch.test_start import ROOT, start


def filled(folder: Path) -> list[Path]:
    """A file where each kind of data lies."""
    files = [folder / name / "file" for name in ("mariadb/data", "calm/journal", "calm_demo/log")]
    for file in files:
        file.parent.mkdir(parents=True)
        file.write_text("kept")
    return files


@pytest.mark.parametrize("command", ["start", "demo", "reset"])
def test_nothing_starts_in_or_throws_away_a_folder_that_is_in_use(tmp_path: Path, command: str) -> None:
    files = filled(tmp_path)
    before = sorted(tmp_path.rglob("*"))
    with alone_in(tmp_path), known_as(tmp_path, "calm_of_the_first"):
        ran = start(command, CALM_VAR=tmp_path)  # on ports of its own: they do not stop it
        assert ran.returncode == 1 and f"An installation runs in {tmp_path}" in ran.stderr, ran.stderr
        assert "Traceback" not in ran.stderr and "gone" not in ran.stdout
        assert running_in(tmp_path) == "calm_of_the_first"  # and it is found by every command still
    assert running_in(tmp_path) is None
    assert all(file.read_text() == "kept" for file in files)
    assert sorted(tmp_path.rglob("*")) == sorted([*before, tmp_path / "held"])


def test_a_folder_is_let_go_of_however_its_process_dies(tmp_path: Path) -> None:
    files = filled(tmp_path)
    code = (
        "import sys, pathlib; from calm_tariff.launch.folder import alone_in\n"
        "with alone_in(pathlib.Path(sys.argv[1])): print('held', flush=True); sys.stdin.read()"
    )
    with subprocess.Popen(
        [sys.executable, "-c", code, str(tmp_path)],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        text=True,
        cwd=ROOT,
    ) as holder:
        assert holder.stdout and holder.stdout.readline() == "held\n"
        with pytest.raises(CannotStart, match="An installation runs in"), alone_in(tmp_path):
            pass
        holder.kill()
        holder.wait()
    ran = start("reset", CALM_VAR=tmp_path)
    assert ran.returncode == 0 and "All data is gone" in ran.stdout, ran.stderr
    assert not any(file.exists() for file in files)


def test_data_that_cannot_be_thrown_away_is_not_said_to_be_gone(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    filled(tmp_path)

    def refused(path: Path) -> None:
        raise PermissionError(13, "Permission denied", str(path))

    monkeypatch.setenv("CALM_VAR", str(tmp_path))
    monkeypatch.setattr(shutil, "rmtree", refused)
    assert start_module.reset() == 1
    said = capsys.readouterr()
    assert f"Not all data is gone. {tmp_path / 'mariadb'} cannot be used: Permission denied" in said.err
    assert "begins anew" not in said.out
