"""The evidence of an invoice over HTTP."""

from __future__ import annotations

from typing import Any

from fastapi.responses import JSONResponse

from calm_tariff.edge import attachment


def evidence_file(invoice_id: int, evidence: dict[str, Any], of: str = "") -> JSONResponse:
    """A case as a file to keep, from which `./calm rate` computes the invoice again, or `./calm late` what of it is
    late (`of`)."""
    return JSONResponse(evidence, headers=attachment.named(f"evidence-{invoice_id}{of and '-'}{of}.json"))
