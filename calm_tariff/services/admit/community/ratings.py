"""What organisations give products, from one to five."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from decimal import Decimal

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.core import community as rules
from calm_tariff.core.community import STARS, Distribution
from calm_tariff.core.errors import Conflict, NotFound
from calm_tariff.core.sentences import ratings_in_words
from calm_tariff.services.admit.portals import storefront
from calm_tariff.services.base import auditing
from calm_tariff.services.base.context import ROLES, Context
from calm_tariff.store.admit import subscribers
from calm_tariff.store.admit.community import Rating
from calm_tariff.store.admit.consumers import Consumer
from calm_tariff.store.base.locking import hold
from calm_tariff.store.compose.products import Product


@dataclass(frozen=True, slots=True)
class Given:
    """How many organisations gave so many of five."""

    stars: int
    ratings: int


@dataclass(frozen=True, slots=True, kw_only=True)
class Ratings:
    """How a product was rated, in words and by number, the best first; what one's own organisation gave, and whether it
    may rate: it is, or was, on one of the product's plans."""

    said: str
    average: Decimal | None
    given: list[Given]
    own: int | None
    may_rate: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class ProductRated:
    """How a product was rated, for the provider."""

    product_id: int
    product: str
    said: str
    given: list[Given]


@dataclass(frozen=True, slots=True, kw_only=True)
class RatingView:
    """What an organisation gave a product; who said so last, and when."""

    consumer_id: int
    consumer: str
    stars: int
    by: str
    rated_at: datetime


def of_product(ctx: Context, slug: str) -> Ratings:
    """How a product that whoever asks may see was rated. Raises `NotFound`."""
    with ctx.reading() as session:
        return _ratings(session, ctx, storefront.known(session, ctx, slug))


def rate(ctx: Context, slug: str, stars: int) -> Ratings:
    """Rate a product for one's own organisation, in place of what it gave before. Raises `NotFound`, `Invalid`, and
    `Conflict` where it never was on it."""
    owner = ctx.actor.consumer_to("ask and rate")
    stars = rules.stars(stars)
    with ctx.transaction() as session:
        product = storefront.known(session, ctx, slug)
        hold(session, Consumer, owner)
        if product.id not in subscribers.products_held(session, owner, ended=True):
            raise Conflict("is rated by those who are, or were, on one of its plans", product.name)
        rating = session.get(Rating, (product.id, owner))
        before = rating.stars if rating else None
        if rating is None:
            rating = Rating(product_id=product.id, consumer_id=owner)
            session.add(rating)
        rating.stars, rating.member_id, rating.rated_at = stars, ctx.actor.member_id or 0, ctx.now
        auditing.note(
            session,
            ctx,
            "rated a product",
            ("product", product.id, product.name),
            before={"of 5": before},
            after={"of 5": stars},
        )
        session.flush()
        return _ratings(session, ctx, product)


def by_product(ctx: Context) -> list[ProductRated]:
    """How every product was rated, for the provider."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        query = select(Rating.product_id, Rating.stars, func.count()).group_by(Rating.product_id, Rating.stars)
        counts: dict[int, dict[int, int]] = {}
        for product, stars, count in session.execute(query):
            counts.setdefault(product, {})[stars] = count
        found = []
        for product_id, name in session.execute(select(Product.id, Product.name).order_by(Product.name)):
            of = Distribution(counts.get(product_id, {}))
            found.append(ProductRated(product_id=product_id, product=name, said=ratings_in_words(of), given=_given(of)))
        return found


def by_consumer(ctx: Context, product_id: int) -> list[RatingView]:
    """Who gave a product what, for the provider: the last first. Raises `NotFound`."""
    ctx.actor.must_be(*ROLES)
    with ctx.reading() as session:
        if session.get(Product, product_id) is None:
            raise NotFound("there is no such product", str(product_id))
        query = (
            select(Rating, Consumer.name)
            .join(Consumer, Consumer.id == Rating.consumer_id)
            .where(Rating.product_id == product_id)
            .order_by(Rating.rated_at.desc(), Rating.consumer_id)
        )
        return [
            RatingView(consumer_id=r.consumer_id, consumer=name, stars=r.stars, by=r.member.name, rated_at=r.rated_at)
            for r, name in session.execute(query)
        ]


def _ratings(session: Session, ctx: Context, product: Product) -> Ratings:
    query = select(Rating.stars, func.count()).where(Rating.product_id == product.id).group_by(Rating.stars)
    of = Distribution({stars: count for stars, count in session.execute(query)})  # noqa: C416
    owner = ctx.actor.consumer_id
    own = session.get(Rating, (product.id, owner)) if owner is not None else None
    return Ratings(
        said=ratings_in_words(of),
        average=of.average,
        given=_given(of),
        own=own.stars if own else None,
        may_rate=owner is not None
        and ctx.actor.may("ask and rate")
        and product.id in subscribers.products_held(session, owner, ended=True),
    )


def _given(of: Distribution) -> list[Given]:
    return [Given(stars, of.counts.get(stars, 0)) for stars in reversed(STARS)]
