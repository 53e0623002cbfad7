"""Portals: how each looks, what it offers to whom, and who may sign up there."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import Column, ForeignKey, String, Table, UniqueConstraint
from sqlalchemy.dialects.mysql import MEDIUMBLOB
from sqlalchemy.orm import Mapped, mapped_column, relationship

from calm_tariff.core import portals
from calm_tariff.store.base.columns import Base, Hash, Id, Name, Prose, Word
from calm_tariff.store.compose.groups import ConsumerGroup
from calm_tariff.store.compose.products import Product

PortalProduct = Table(
    "portal_product",
    Base.metadata,
    Column("portal_id", ForeignKey("portal.id"), primary_key=True),
    Column("product_id", ForeignKey("product.id"), primary_key=True),
)
PortalGroup = Table(
    "portal_group",
    Base.metadata,
    Column("portal_id", ForeignKey("portal.id"), primary_key=True),
    Column("group_id", ForeignKey("consumer_group.id"), primary_key=True),
)


class Portal(Base):
    """A portal at `path`, and by `host` where it has one.

    `everything`: it offers every product, and not only those of `products`. With `groups`, it serves only
    organisations of these, and those that came by it. `sign_up`: core.portals.SignUp; `at_once`: new organisations are
    let in at once. Accounts are made at the `sign_up_site` where there is one; with the
    `documentation_secret`, which is sealed, a documentation elsewhere asks for somebody's keys.
    """

    __tablename__ = "portal"
    id: Mapped[Id]
    path: Mapped[str] = mapped_column(String(60), unique=True)
    host: Mapped[str | None] = mapped_column(String(253), unique=True)
    edition: Mapped[int] = mapped_column(default=1)
    name: Mapped[Name]
    welcome: Mapped[Prose] = mapped_column(default="")
    main_colour: Mapped[str] = mapped_column(String(7))
    accent_colour: Mapped[str] = mapped_column(String(7))
    title_font: Mapped[Word]
    text_font: Mapped[Word]
    sign_up: Mapped[Word]
    mail_domains: Mapped[list[Any]] = mapped_column(default=list)
    at_once: Mapped[bool] = mapped_column(default=True)
    sign_up_site: Mapped[Name] = mapped_column(default="")
    documentation_secret: Mapped[Prose] = mapped_column(default="")
    everything: Mapped[bool] = mapped_column(default=True)
    created_at: Mapped[datetime]
    products: Mapped[list[Product]] = relationship(secondary=PortalProduct, order_by="Product.name")
    groups: Mapped[list[ConsumerGroup]] = relationship(secondary=PortalGroup, order_by="ConsumerGroup.name")
    pages: Mapped[list[PortalPage]] = relationship(order_by="PortalPage.place", cascade="all, delete-orphan")
    pictures: Mapped[list[PortalPicture]] = relationship(cascade="all, delete-orphan")

    @property
    def where(self) -> str:
        """Where it is, to be joined to the installation's address."""
        return portals.place(self.path, self.host)


class PortalPage(Base):
    """A further page of a portal, in Markdown."""

    __tablename__ = "portal_page"
    __table_args__ = (UniqueConstraint("portal_id", "prefix"),)
    id: Mapped[Id]
    portal_id: Mapped[int] = mapped_column(ForeignKey("portal.id"))
    place: Mapped[int]
    prefix: Mapped[Word]
    title: Mapped[Name]
    text: Mapped[Prose]


class PortalPicture(Base):
    """A portal's `logo` or `icon`, as PNG; `digest` is of the content, by which it is fetched."""

    __tablename__ = "portal_picture"
    portal_id: Mapped[int] = mapped_column(ForeignKey("portal.id"), primary_key=True)
    kind: Mapped[Word] = mapped_column(primary_key=True)
    digest: Mapped[Hash] = mapped_column(index=True)
    width: Mapped[int]
    height: Mapped[int]
    content: Mapped[bytes] = mapped_column(MEDIUMBLOB, deferred=True)
