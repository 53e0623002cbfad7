"""Issued documents as files: written by a job, kept with a hash, and the same for ever.

Source: docs/arithmetic.md, section 5.
"""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from typing import Literal

from sqlalchemy import select
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.orm import Session

from calm_tariff.core.billing.documents.issued import missing
from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.core.lifecycles import NOT_ISSUED
from calm_tariff.formats.money_documents import electronic, paper
from calm_tariff.services.base import jobs
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.services.base.mailing import Enclosed
from calm_tariff.services.settle.documents import issued
from calm_tariff.services.settle.documents.looks import look_of
from calm_tariff.store.admit import merged
from calm_tariff.store.settle.document_files import DocumentFile
from calm_tariff.store.settle.money_documents import MoneyDocument

WRITE = "write a document down"
Form = Literal["pdf", "ubl"]
_MEDIA: dict[Form, tuple[str, str]] = {"pdf": ("application/pdf", "pdf"), "ubl": ("application/xml", "xml")}


@dataclass(frozen=True, slots=True, kw_only=True)
class FileOf:
    """A document as a file: its name, what it is, and the SHA-256 of what is in it."""

    name: str
    media_type: str
    content: bytes
    digest: str


def begin(session: Session, ctx: Context, document: MoneyDocument) -> None:
    """Keep who issues a document to whom, and have it written down, in the transaction that issues it."""
    issued.freeze(session, document)
    jobs.write(session, ctx, WRITE, document.number or "", {"document": document.id}, subject=str(document.id))


def write(ctx: Context, document_id: int) -> bool:
    """Write an issued document down in every form that it can have; whether that was done. One that is written already
    stays as it is."""
    with ctx.transaction() as session:
        document = session.get(MoneyDocument, document_id)
        if document is None or document.number is None or _kept(session, document_id, "pdf") is not None:
            return False
        found, look = issued.issued(session, document), look_of(session)
    forms: dict[Form, bytes] = {}
    if not missing(found):
        forms["ubl"] = electronic.ubl(found)
    forms["pdf"] = paper.document(found, look)
    with ctx.transaction() as session:
        for form, content in forms.items():
            made = insert(DocumentFile).values(
                document_id=document_id,
                form=form,
                content=content,
                digest=hashlib.sha256(content).hexdigest(),
                made_at=ctx.now,
            )
            session.execute(made.prefix_with("IGNORE"))  # whoever was first has written it
    return True


def one(ctx: Context, document_id: int, form: Form) -> FileOf:
    """An issued document as a file. Raises `NotFound`, or `Conflict` where it is being written, or cannot have that
    form, naming what is missing."""
    ctx.actor.must_be(*ROLES)
    return _file(ctx, document_id, form)


def own(ctx: Context, document_id: int, form: Form) -> FileOf:
    """One's own document as a file. Raises `NotFound` for another's, just as for none, and `Conflict` as `one` does."""
    owner = ctx.actor.consumer_to("see money")
    with ctx.reading() as session:
        document = session.get(MoneyDocument, document_id)
        if document is None or document.consumer_id not in merged.with_merged(session, owner):
            raise NotFound("there is no such document", str(document_id))
    return _file(ctx, document_id, form)


def enclosed(ctx: Context, document_id: int) -> Enclosed | None:
    """A document as it goes with a letter; None while it is being written."""
    with ctx.reading() as session:
        kept, document = _kept(session, document_id, "pdf"), session.get(MoneyDocument, document_id)
        if kept is None or document is None:
            return None
        return Enclosed(name=f"{document.number}.pdf", media_type="application/pdf", content=kept.content)


def forms(session: Session, document_id: int) -> list[str]:
    """The forms in which a document is written down."""
    query = select(DocumentFile.form).where(DocumentFile.document_id == document_id).order_by(DocumentFile.form)
    return list(session.scalars(query))


def _file(ctx: Context, document_id: int, form: Form) -> FileOf:
    with ctx.transaction() as session:
        document = session.get(MoneyDocument, document_id)
        if document is None or document.state in NOT_ISSUED or document.number is None:
            raise NotFound("there is no such issued document", str(document_id))
        number, kept = document.number, _kept(session, document_id, form)
        if kept is not None:
            media_type, end = _MEDIA[form]
            return FileOf(name=f"{number}.{end}", media_type=media_type, content=kept.content, digest=kept.digest)
        if _kept(session, document_id, "pdf") is not None:
            left_out = missing(issued.issued(session, document))
            raise Conflict(f"an electronic invoice has to say {', and '.join(left_out)}", number)
        jobs.see_to(session, ctx, WRITE, number, {"document": document.id}, subject=str(document.id))
    raise Conflict("is being written down; ask again in a moment", number)


def _kept(session: Session, document_id: int, form: Form) -> DocumentFile | None:
    return session.scalar(
        select(DocumentFile).where(DocumentFile.document_id == document_id, DocumentFile.form == form)
    )
