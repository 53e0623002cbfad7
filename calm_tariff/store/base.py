"""What all tables share: the metadata, the column types, the engine."""

from __future__ import annotations

from datetime import UTC, datetime
from decimal import Decimal
from typing import Annotated, Any

from sqlalchemy import BigInteger, Engine, MetaData, Numeric, String, Text, create_engine
from sqlalchemy.dialects.mysql import DATETIME, LONGTEXT
from sqlalchemy.orm import DeclarativeBase, mapped_column
from sqlalchemy.types import JSON, TypeDecorator

# The longest statement: an OpenAPI document of 20 MB with every character escaped.
PACKET = 64 * 1024 * 1024


class Moment(TypeDecorator[datetime]):
    """An aware datetime, stored in UTC to the microsecond."""

    impl = DATETIME(fsp=6)
    cache_ok = True

    def process_bind_param(self, value: datetime | None, dialect: Any) -> datetime | None:
        return None if value is None else value.astimezone(UTC).replace(tzinfo=None)

    def process_result_value(self, value: datetime | None, dialect: Any) -> datetime | None:
        return None if value is None else value.replace(tzinfo=UTC)


Id = Annotated[int, mapped_column(BigInteger, primary_key=True, autoincrement=True)]
Word = Annotated[str, mapped_column(String(40))]
Name = Annotated[str, mapped_column(String(200))]
Prose = Annotated[str, mapped_column(Text)]
Long = Annotated[str, mapped_column(LONGTEXT)]
LongJson = Annotated[list[Any], mapped_column(JSON)]
Hash = Annotated[str, mapped_column(String(64))]
Money = Annotated[Decimal, mapped_column(Numeric(24, 4))]
Units = Annotated[Decimal, mapped_column(Numeric(30, 6))]
Micros = Annotated[int, mapped_column(BigInteger)]


class Base(DeclarativeBase):
    """Parent of every table."""

    metadata = MetaData(
        naming_convention={
            "ix": "ix_%(table_name)s_%(column_0_N_name)s",
            "uq": "uq_%(table_name)s_%(column_0_N_name)s",
            "fk": "fk_%(table_name)s_%(column_0_name)s",
            "pk": "pk_%(table_name)s",
        }
    )
    type_annotation_map = {datetime: Moment(), dict[str, Any]: JSON(), list[Any]: JSON()}


def engine(url: str, **options: Any) -> Engine:
    """An engine for a MariaDB address; connections are checked before use, so a restart is survived."""
    return create_engine(
        url,
        pool_pre_ping=True,
        hide_parameters=True,  # a message of the database's may hold what was to be kept: hashes, names
        pool_recycle=1800,
        isolation_level="READ COMMITTED",
        connect_args={
            "connect_timeout": 5,
            "charset": "utf8mb4",
            "local_infile": False,
            "max_allowed_packet": PACKET,
        },
        **options,
    )
