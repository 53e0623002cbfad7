"""The parts of a file of usage, as they are kept until they are done."""

from __future__ import annotations

import zlib

from sqlalchemy.orm import Session

from calm_tariff.formats.outside_calls import Part
from calm_tariff.services.base.context import Context
from calm_tariff.store.base.locking import locked
from calm_tariff.store.serve.outside_usage import UsageFile, UsageFilePart


def held_at(session: Session, usage_file_id: int, stage: str) -> UsageFile | None:
    """A file, held until the transaction ends, where it is at a stage; else None."""
    found = locked(session, UsageFile, usage_file_id)
    return found if found is not None and found.stage == stage else None


def part(ctx: Context, usage_file_id: int, nth: int) -> Part | None:
    """A part of a file; None where it is done, or the file was forgotten."""
    with ctx.transaction() as session:
        found = session.get(UsageFilePart, (usage_file_id, nth))
        return None if found is None else unpacked(found)


def unpacked(found: UsageFilePart) -> Part:
    """A part's rows."""
    return Part(found.first, zlib.decompress(found.packed))


def packed(part: Part) -> bytes:
    """A part as it is kept."""
    return zlib.compress(part.text, 1)
