"""An office as it stands right after it was opened, to be had again without opening it once more."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Engine, Table, insert, select, text

from calm_tariff.services.base.context import Context
from calm_tariff.store.tables import metadata
from tests.office import Clock, Office


@dataclass(frozen=True, slots=True)
class OpenedOffice:
    """What people and programs know of it, and every row it has."""

    office: Office
    rows: list[tuple[Table, list[dict[str, Any]]]]

    @classmethod
    def kept(cls, office: Office, database: Engine) -> OpenedOffice:
        """An office that nobody has used yet."""
        with database.connect() as connection:
            every = [
                (table, [dict(row) for row in connection.execute(select(table)).mappings()])
                for table in metadata.sorted_tables
            ]
        return cls(_as_new(office, office.ctx), [(table, rows) for table, rows in every if rows])

    def again(self, ctx: Context, database: Engine) -> Office:
        """The same office in an installation that is empty."""
        with database.begin() as connection:
            connection.execute(text("SET FOREIGN_KEY_CHECKS = 0"))  # of what refers to itself, too
            for table, rows in self.rows:
                connection.execute(insert(table), rows)
            connection.execute(text("SET FOREIGN_KEY_CHECKS = 1"))
        return _as_new(self.office, ctx)


def _as_new(office: Office, ctx: Context) -> Office:
    assert isinstance(ctx.clock, Clock)
    return replace(
        office,
        ctx=ctx,
        clock=ctx.clock,
        plans=dict(office.plans),
        operations=dict(office.operations),
        consumers=[replace(consumer) for consumer in office.consumers],
    )
