"""The evidence of an invoice over HTTP."""

from __future__ import annotations

from typing import Any

from fastapi.responses import JSONResponse


def evidence_file(invoice_id: int, evidence: dict[str, Any], of: str = "") -> JSONResponse:
    """A case as a file to keep, from which `./calm rate` computes the invoice again, or `./calm late` what of it is
    late (`of`)."""
    name = f'attachment; filename="evidence-{invoice_id}{of and "-"}{of}.json"'
    return JSONResponse(evidence, headers={"content-disposition": name})
