"""The database server of a test run: one for all workers, in which each has schemas of its own."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from calm_tariff.launch.database import Database

# Nothing here must outlive a power cut, so the disk need not be waited for.
QUICK = ("--innodb-flush-log-at-trx-commit=0", "--innodb-doublewrite=0", "--max-connections=400")


@dataclass
class RunDatabase(Database):
    """The server as one worker sees it: its schemas carry the worker's name."""

    worker: str = ""

    def own(self, schema: str) -> str:
        """A schema's name as this worker has it."""
        return f"{schema}_{self.worker}" if self.worker else schema

    def make_schema(self, schema: str) -> str:
        return super().make_schema(self.own(schema))

    def let_serve(self, schema: str, tables: Iterable[str]) -> str:
        return super().let_serve(self.own(schema), tables)
