"""What people write to be reached and told apart by: mail addresses, and how a name looks."""

from __future__ import annotations

import unicodedata
from functools import cache
from hashlib import sha256
from urllib.parse import urlsplit

import email_validator
from confusable_homoglyphs import confusables
from email_validator import EmailNotValidError, validate_email

from calm_tariff.core.errors import Invalid

# Whether somebody can be reached is for the letter to find out; names kept for documentation are used in demos.
email_validator.SPECIAL_USE_DOMAIN_NAMES.clear()
LONGEST_PAGE = 200


def mail_address(text: str, field: str = "email") -> str:
    """A mail address as it is kept: by its form (RFC 5322), in small letters. Raises `Invalid`, naming the field."""
    try:
        found = validate_email(text.strip(), check_deliverability=False, allow_smtputf8=False)
    except EmailNotValidError as error:
        raise Invalid(f"is not an e-mail address: {error}", field) from None
    return found.normalized.lower()


def looks(name: str) -> tuple[str, str]:
    """How a name looks, as two digests: names that share one of them can be taken for each other.

    Of the compatible form (NFKC), letters of one shape are one (Unicode TS 39), with and without regard to case.
    """
    whole = unicodedata.normalize("NFKC", name)
    return _digest(_shape(whole.casefold())), _digest(_shape(whole).casefold())


def _digest(text: str) -> str:
    return sha256(text.encode()).hexdigest()


def _shape(text: str) -> str:
    """A text with each letter, and each group that looks like one, in place of its look-alikes."""
    shapes = _shapes()
    text = " ".join(unicodedata.normalize("NFD", text).split())
    once = "".join(shapes.get(letter, letter) for letter in text)
    return "".join(shapes.get(letter, letter) for letter in once)


@cache
def _shapes() -> dict[str, str]:
    """For each character that has look-alikes, the one that stands for them all: a group before a letter."""
    parent: dict[str, str] = {}

    def root(text: str) -> str:
        while parent.setdefault(text, text) != text:
            text = parent[text]
        return text

    for text, alike in confusables.confusables_data.items():
        for other in alike:
            one, two = sorted((root(text), root(other["c"])), key=lambda t: (-len(t), t))
            parent[two] = one
    return {text: root(text) for text in parent if len(text) == 1}


def page_address(address: str, field: str) -> str:
    """The address of a page to which people are sent; empty for none. Raises `Invalid`."""
    address = address.strip()
    try:
        url = urlsplit(address)
        good = url.scheme in ("http", "https") and url.hostname and not url.username and not url.fragment
    except ValueError:
        good = False
    if address and (not good or len(address) > LONGEST_PAGE or any(c.isspace() for c in address)):
        raise Invalid("must be the http or https address of a page, without a name and password", field)
    return address
