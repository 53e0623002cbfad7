"""The demo's hundred days: loaded while everything runs, so that there is something to look at from the start."""

from __future__ import annotations

import multiprocessing
import shutil
import sys
import time
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from threading import Event, Thread

from calm_tariff.demo.late_file import NAME
from calm_tariff.demo.load import found, load
from calm_tariff.edge.processor import processor_of
from calm_tariff.formats import callers
from calm_tariff.launch.database import Database
from calm_tariff.services.base.context import Context
from calm_tariff.services.house.installation import installed
from calm_tariff.settings import Settings


@dataclass(frozen=True, slots=True)
class Demonstration:
    """What is loaded into a demo's installation, and whether that came to its end.

    `anew` has a process started anew once the history is there: the gateway, which read what quotas have counted when
    it started, and the worker, which was not started before: it would do today what the history does on its days.
    """

    settings: Settings
    stop: Event
    anew: Callable[[str], None]

    def clear_half(self, database: Database, schema: str) -> None:
        """Throw away what an earlier start did not load to its end."""
        if self._unfinished.exists():
            print("The demo's data was not loaded to its end; it is loaded anew.", flush=True)
            database.drop_schema(schema)
            shutil.rmtree(self.settings.journal, ignore_errors=True)
            self.settings.callers.unlink(missing_ok=True)
            self._unfinished.unlink()

    def begin(self, ctx: Context) -> Thread | None:
        """In a new installation, found the office, so that its people can sign in; what loads the rest is returned, to
        be started once everything runs."""
        if installed(ctx):
            return None
        self._unfinished.parent.mkdir(parents=True, exist_ok=True)
        self._unfinished.touch()
        found(ctx)
        return Thread(target=self._load, args=(ctx,), name="demo data", daemon=True)

    def break_off(self) -> None:
        """End the processes that load, where some still do."""
        for child in multiprocessing.active_children():
            child.terminate()
            child.join()

    @property
    def _unfinished(self) -> Path:
        return self.settings.var / "loading"

    def _load(self, ctx: Context) -> None:
        began = time.monotonic()
        try:
            processor = processor_of(self.settings, hears=False)
            say = partial(print, " ", flush=True)
            loaded = load(ctx, self.settings.standins_address, say, processor=processor)
            self.anew("gateway")
            self._keep_callers(callers.written(loaded.callers))
            late = self.settings.var / NAME
            late.write_text(loaded.late_usage, encoding="utf-8")
            self.anew("worker")
            self._unfinished.unlink()
        except Exception as error:
            if not self.stop.is_set():
                print(
                    f"The demo's data could not be loaded: {type(error).__name__}: {error}\n"
                    "Stop it and start it again; it is loaded anew.",
                    file=sys.stderr,
                    flush=True,
                )
            return
        seconds = time.monotonic() - began
        print(f"  late usage, to be brought in under Settle, Usage from elsewhere: {late}", flush=True)
        print(f"  everything is loaded after {seconds:.0f} s: {loaded.calls:,} calls of a hundred days", flush=True)

    def _keep_callers(self, content: bytes) -> None:
        """For the stand-ins, who find the file whole or not at all; it holds keys."""
        made = self.settings.callers.with_suffix(".new")
        made.touch(0o600)
        made.write_bytes(content)
        made.rename(self.settings.callers)
