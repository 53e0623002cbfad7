"""Portals: where they are, who may sign up there, and what is at fault with one (product.md, 7)."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from calm_tariff.core import contrast, names
from calm_tariff.core.errors import Invalid

# The colours of a portal that was given none.
MAIN, ACCENT = "#153B5B", "#E0A93B"
SignUp = Literal["anyone", "mail domains", "by invitation", "nobody"]
FIRST = "/portal"
OTHERS = "/portals/"
# Families that ship with the application; a portal has one for titles and one for all else.
FONTS = ("Newsreader", "Figtree", "Literata", "Bitter", "Public Sans", "Work Sans")
MOST_PAGES = 30
MOST_DOMAINS = 100
_LABEL = r"[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?"
_PREFIX = re.compile(rf"{_LABEL}")
_HOST = re.compile(rf"{_LABEL}(?:\.{_LABEL})+(?::[0-9]{{1,5}})?")
_DOMAIN = re.compile(rf"{_LABEL}(?:\.{_LABEL})+")


@dataclass(frozen=True, slots=True, kw_only=True)
class Page:
    """A further page of a portal, in Markdown."""

    prefix: str
    title: str
    text: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Entrance:
    """Who may sign up: anyone, whose mail address is of one of `domains`, who was invited, or nobody; and whether a
    new organisation is let in at once, or after a person says so."""

    sign_up: SignUp = "anyone"
    domains: tuple[str, ...] = ()
    at_once: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class Brand:
    """How a portal looks and what it says first (`welcome`, Markdown)."""

    name: str
    welcome: str = ""
    main_colour: str = MAIN
    accent_colour: str = ACCENT
    title_font: str = "Newsreader"
    text_font: str = "Figtree"


def place(path: str, host: str | None) -> str:
    """Where a portal is, to be joined to the address of the installation (RFC 3986): a path, or another host."""
    return f"//{host}" if host else path


def path_of(prefix: str) -> str:
    """The path of a portal other than the first. Raises `Invalid`."""
    return OTHERS + _prefix(prefix, "prefix")


def host_name(text: str) -> str | None:
    """A host name (RFC 1123), with a port where it is not the usual one, as browsers send it. Raises `Invalid`."""
    name = text.strip().lower()
    if not name:
        return None
    if len(name) > 253 or not _HOST.fullmatch(name) or re.fullmatch(r"[0-9.]+(:[0-9]+)?", name):
        raise Invalid("is no host name; write it without https:// and path, such as data.example.org", "host")
    return name


def checked(brand: Brand) -> Brand:
    """A brand as it is kept. Raises `Invalid`, naming the field."""
    for font, field in ((brand.title_font, "title_font"), (brand.text_font, "text_font")):
        if font not in FONTS:
            raise Invalid(f"must be one of {', '.join(FONTS)}", field)
    main = contrast.colour(brand.main_colour, "main_colour")
    accent = contrast.colour(brand.accent_colour, "accent_colour")
    for pair in contrast.judged(main, accent):
        if pair.nearest:
            raise Invalid(
                f"is hard to see: {pair.meaning} have a contrast of {pair.ratio:.2f} to 1, where {pair.least} is the "
                f"least (WCAG 2.2); {pair.nearest} would do",
                pair.field,
            )
    return Brand(
        name=names.plain(brand.name, "name"),
        welcome=brand.welcome.strip(),
        main_colour=main,
        accent_colour=accent,
        title_font=brand.title_font,
        text_font=brand.text_font,
    )


def entrance(given: Entrance) -> Entrance:
    """Who may sign up, as it is kept. Raises `Invalid`, naming the field."""
    domains = tuple(dict.fromkeys(domain.strip().lower().removeprefix("@") for domain in given.domains))
    for at, domain in enumerate(domains):
        if len(domain) > 253 or not _DOMAIN.fullmatch(domain):
            raise Invalid("is no mail domain; write it as ferries.example", f"mail_domains.{at}")
    if len(domains) > MOST_DOMAINS:
        raise Invalid(f"may be at most {MOST_DOMAINS}", "mail_domains")
    if given.sign_up == "mail domains" and not domains:
        raise Invalid("say whose addresses may sign up, or let nobody", "mail_domains")
    return Entrance(sign_up=given.sign_up, domains=domains, at_once=given.at_once)


def pages(given: Sequence[Page]) -> list[Page]:
    """Further pages as they are kept, each at a prefix of its own. Raises `Invalid`, naming the field."""
    if len(given) > MOST_PAGES:
        raise Invalid(f"may be at most {MOST_PAGES}", "pages")
    kept: dict[str, Page] = {}
    for at, one in enumerate(given):
        prefix = _prefix(one.prefix, f"pages.{at}.prefix")
        if prefix in kept:
            raise Invalid("is another page's already", f"pages.{at}.prefix")
        kept[prefix] = Page(prefix=prefix, title=names.plain(one.title, f"pages.{at}.title", 60), text=one.text.strip())
    return list(kept.values())


def refusal(rule: Entrance, email: str, invited: bool = False) -> str | None:
    """Why an address may not sign up; None where it may. It says nothing of who else may."""
    if invited or rule.sign_up == "anyone":
        return None
    if rule.sign_up == "mail domains":
        domain = email.rpartition("@")[2]
        return None if domain in rule.domains else f"accounts are not made here for addresses at {domain}"
    if rule.sign_up == "by invitation":
        return "accounts are made here by invitation; whoever invites you has a letter sent to you"
    return "no accounts are made here"


def _prefix(text: str, field: str) -> str:
    prefix = text.strip().lower()
    if len(prefix) > 40 or not _PREFIX.fullmatch(prefix):
        raise Invalid("may have small letters, digits and hyphens between them, at most 40", field)
    return prefix
