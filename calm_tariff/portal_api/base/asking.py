"""Who asks the portal."""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends

from calm_tariff.edge.asking import asking
from calm_tariff.services.admit.members import MEMBERS
from calm_tariff.services.base.context import Context

COOKIE = "calm_portal"
Asking = Annotated[Context, Depends(asking(COOKIE, MEMBERS))]
