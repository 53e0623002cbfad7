"""A document of money as a file over HTTP: the same for ever, known by its hash (RFC 9530)."""

from __future__ import annotations

import base64
from datetime import date

from fastapi.responses import Response

from calm_tariff.edge import attachment
from calm_tariff.services.settle.documents.files import FileOf


def document_file(of: FileOf) -> Response:
    """A document as a file to keep."""
    digest = base64.b64encode(bytes.fromhex(of.digest)).decode()
    headers = {
        **attachment.named(of.name),
        "repr-digest": f"sha-256=:{digest}:",
        "cache-control": "private, no-cache",
    }
    return Response(of.content, media_type=of.media_type, headers=headers)


def statement_file(pdf: bytes, last: date | None) -> Response:
    """A statement of account until a day, or today, as a file to keep."""
    name = f"statement-{last}.pdf" if last else "statement.pdf"
    return Response(pdf, media_type="application/pdf", headers=attachment.named(name))
