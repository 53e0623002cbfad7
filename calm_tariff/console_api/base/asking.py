"""Who asks the console."""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends

from calm_tariff.edge.asking import asking
from calm_tariff.services.base.context import Context
from calm_tariff.services.house.people import people

COOKIE = "calm_console"
Asking = Annotated[Context, Depends(asking(COOKIE, people))]
