"""The engine that reaches the database."""

from __future__ import annotations

import pytest
from sqlalchemy import text
from sqlalchemy.exc import SQLAlchemyError

from calm_tariff.store.base.connecting import PACKET, engine
from tests.servers import RunDatabase


def test_what_others_have_committed_is_seen_within_a_transaction(database: RunDatabase) -> None:
    lent = database.lend()
    with lent.engine.connect() as one, lent.engine.connect() as other:
        count = text("SELECT COUNT(*) FROM stamp")
        assert one.execute(count).scalar() == 0
        other.execute(text("INSERT INTO stamp VALUES ('x', 1, NOW())"))
        other.commit()
        assert one.execute(count).scalar() == 1  # READ COMMITTED
    database.take_back(lent)


def test_a_connection_that_died_is_made_anew(database: RunDatabase) -> None:
    lent = database.lend()
    own = engine(lent.engine.url.render_as_string(hide_password=False), pool_size=1, max_overflow=0)
    number = text("SELECT CONNECTION_ID()")
    with own.connect() as connection:
        before = connection.execute(number).scalar()
    with lent.engine.connect() as other:
        other.execute(text(f"KILL {before}"))
    with own.connect() as connection:
        assert connection.execute(number).scalar() != before
    own.dispose()
    database.take_back(lent)


def test_neither_an_error_nor_the_engine_tells_what_was_to_be_kept(database: RunDatabase) -> None:
    lent = database.lend()
    password = lent.engine.url.password
    assert password and password not in repr(lent.engine)
    with lent.engine.connect() as connection, pytest.raises(SQLAlchemyError) as refused:
        connection.execute(text("INSERT INTO no_such_table VALUES (:secret)"), {"secret": "a hash"})
    assert "a hash" not in str(refused.value)
    database.take_back(lent)


def test_a_long_document_goes_through_in_one_statement_and_no_file_of_ours_is_given_away(database: RunDatabase) -> None:
    lent = database.lend()
    again = engine(lent.engine.url.render_as_string(hide_password=False))
    with again.connect() as connection:
        most = connection.execute(text("SELECT @@max_allowed_packet")).scalar()
        assert most and most >= PACKET
        long = "å" * 5_000_000
        assert connection.execute(text("SELECT CHAR_LENGTH(:long)"), {"long": long}).scalar() == len(long)
        with pytest.raises(SQLAlchemyError):
            connection.execute(text("LOAD DATA LOCAL INFILE '/etc/hostname' INTO TABLE stamp"))
    again.dispose()
    database.take_back(lent)
