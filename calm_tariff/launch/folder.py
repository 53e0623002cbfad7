"""The folder of an installation: at most one runs in it, and says which."""

from __future__ import annotations

import fcntl
import json
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from calm_tariff.launch.database import CannotStart, unusable


@contextmanager
def alone_in(folder: Path) -> Iterator[None]:
    """Hold a folder for this process: nobody else starts in it or throws it away meanwhile. The kernel lets go of it
    when the process ends, however it ends. Raises `CannotStart`."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
        held = (folder / "held").open("a", encoding="utf-8")
    except OSError as error:
        raise CannotStart(unusable(error)) from None
    with held:
        try:
            fcntl.flock(held, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            raise CannotStart(
                f"An installation runs in {folder.resolve()}, or is being started or stopped there. Stop it first, or "
                "set CALM_VAR to another folder."
            ) from None
        yield


@contextmanager
def known_as(folder: Path, schema: str) -> Iterator[None]:
    """Say that this process runs in a folder that it holds, and on which schema."""
    path = folder / "running.json"
    path.write_text(json.dumps({"schema": schema, "process": os.getpid()}), encoding="utf-8")
    try:
        yield
    finally:
        path.unlink(missing_ok=True)


def running_in(folder: Path) -> str | None:
    """The schema of what runs in a folder; None where nothing does."""
    try:
        said = json.loads((folder / "running.json").read_text(encoding="utf-8"))
        os.kill(said["process"], 0)
        return str(said["schema"])
    except (OSError, ValueError, KeyError):
        return None
