"""What people read of questions, answers and ratings in a portal."""

from __future__ import annotations

from calm_tariff.core.community import MOST, Author, Distribution


def author_in_words(post: Author, *, asker: Author | None, reader: Author | None, name: str, office: str) -> str:
    """Who wrote something, as `reader` is told: their own people by name, the provider by its own, and of everybody
    else no more than whether an answer is of `asker`, who asked. Who else is a customer is nobody's business."""
    if post.official:
        return office
    if reader is not None and post.member == reader.member:
        return "you"
    if reader is not None and post.consumer == reader.consumer:
        return name
    return "who asked" if asker is not None and post.consumer == asker.consumer else "a developer"


def ratings_in_words(of: Distribution) -> str:
    """How a product was rated."""
    if of.average is None:
        return "Nobody has rated it yet."
    by = "one organisation" if of.ratings == 1 else f"{of.ratings:,} organisations"
    return f"Rated {of.average} of {MOST} by {by}."
