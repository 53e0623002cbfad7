"""How the provider's papers look: as its first portal does."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from calm_tariff.core.portals import FIRST
from calm_tariff.formats.money_documents.paper import Look
from calm_tariff.store.admit.portals import Portal, PortalPicture


def look_of(session: Session) -> Look:
    """The look of papers that are written now."""
    portal = session.scalars(select(Portal).where(Portal.path == FIRST)).one()
    picture = select(PortalPicture).where(PortalPicture.portal_id == portal.id, PortalPicture.kind == "logo")
    logo = session.scalar(picture)
    return Look(
        main_colour=portal.main_colour,
        title_font=portal.title_font,
        text_font=portal.text_font,
        logo=logo.content if logo is not None else b"",
    )
