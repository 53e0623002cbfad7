"""Which version this is: the package's number, and the commit where it runs from a checkout."""

from __future__ import annotations

import subprocess
import tomllib
from functools import cache
from importlib.metadata import PackageNotFoundError
from importlib.metadata import version as installed
from pathlib import Path

ROOT = Path(__file__).parent.parent


@cache
def version() -> str:
    """As people are told it: `0.1.0`, or `0.1.0 (3f2a91c7)` from a checkout, with a + where that has changes."""
    commit = _commit()
    return f"{_number()} ({commit})" if commit else _number()


def _number() -> str:
    try:
        return installed("calm-tariff")
    except PackageNotFoundError:
        with (ROOT / "pyproject.toml").open("rb") as file:
            return str(tomllib.load(file)["project"]["version"])


def _commit() -> str:
    if not (ROOT / ".git").exists():
        return ""
    describe = ["git", "-C", str(ROOT), "describe", "--always", "--abbrev=8", "--dirty=+", "--exclude=*"]
    try:
        return subprocess.run(describe, capture_output=True, text=True, timeout=10).stdout.strip()
    except (OSError, subprocess.TimeoutExpired):
        return ""
