"""The database server of a test run: one for all workers, in which each has schemas of its own."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from sqlalchemy import Engine, text

from calm_tariff.launch.database import Database
from calm_tariff.store.base.connecting import engine
from calm_tariff.store.migrate import upgrade
from calm_tariff.store.tables import metadata

# Nothing here must outlive a power cut, so the disk need not be waited for.
QUICK = ("--innodb-flush-log-at-trx-commit=0", "--innodb-doublewrite=0", "--max-connections=400")


@dataclass(frozen=True)
class Lent:
    """An empty schema that the migrations made: its owner's engine, and the address to serve from it."""

    engine: Engine
    serving: str


@dataclass
class RunDatabase(Database):
    """The server as one worker sees it: its schemas carry the worker's name."""

    worker: str = ""
    _made: int = 0
    _free: list[Lent] = field(default_factory=list)

    def own(self, schema: str) -> str:
        """A schema's name as this worker has it."""
        return f"{schema}_{self.worker}" if self.worker else schema

    def make_schema(self, schema: str) -> str:
        return super().make_schema(self.own(schema))

    def let_serve(self, schema: str, tables: Iterable[str]) -> str:
        return super().let_serve(self.own(schema), tables)

    def lend(self) -> Lent:
        """A schema for as long as it is needed: making one takes longer than most that is done with it."""
        if self._free:
            return self._free.pop()
        self._made += 1
        schema = f"calm_lent_{self._made}"
        url = self.make_schema(schema)
        upgrade(url)
        return Lent(engine(url), self.let_serve(schema, metadata.tables))

    def take_back(self, lent: Lent) -> None:
        """Have a schema again that nobody uses any more."""
        emptied(lent.engine)
        self._free.append(lent)


def emptied(database: Engine) -> None:
    """Throw away every row."""
    with database.begin() as connection:
        connection.execute(text("SET FOREIGN_KEY_CHECKS = 0"))
        for table in metadata.tables:
            connection.execute(text(f"DELETE FROM `{table}`"))
        connection.execute(text("SET FOREIGN_KEY_CHECKS = 1"))
