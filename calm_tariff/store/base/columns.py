"""What all tables share: the metadata and the column types."""

from __future__ import annotations

from datetime import UTC, datetime
from decimal import Decimal
from typing import Annotated, Any

from sqlalchemy import BigInteger, MetaData, Numeric, String, Text
from sqlalchemy.dialects.mysql import DATETIME, LONGTEXT
from sqlalchemy.orm import DeclarativeBase, mapped_column
from sqlalchemy.types import JSON, TypeDecorator


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
