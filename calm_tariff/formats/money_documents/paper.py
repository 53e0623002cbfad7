"""Documents of money on paper: A4, tagged, with their fonts, in the provider's look (PDF/A-3, ISO 19005-3), and with
the electronic invoice inside where there is one (Factur-X 1.0)."""

from __future__ import annotations

import base64
import logging
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date
from decimal import Decimal
from functools import cache
from importlib import resources
from itertools import groupby
from pathlib import Path
from threading import Lock
from typing import Any

from jinja2 import Environment, StrictUndefined, Template
from PIL import ImageFile

from calm_tariff.core.billing.documents.issued import Issued, IssuedLine, missing
from calm_tariff.core.money import in_digits
from calm_tariff.formats.money_documents import electronic
from calm_tariff.formats.money_documents.payment_code import payment_code
from calm_tariff.formats.tax_numbers import countries

# The families that portals can have ship with the interface.
FONTS = Path(__file__).parents[3] / "web" / "node_modules" / "@fontsource-variable"
_SUBSETS = ("latin-ext", "latin")
# What lays text out is a library in C, which nobody says is safe for several threads.
_ONE_AT_A_TIME = Lock()
# They tell of every step, and of each rule of a style that is not for them.
for _talks in ("weasyprint", "fontTools", "factur-x"):
    logging.getLogger(_talks).setLevel(logging.ERROR)


@dataclass(frozen=True, slots=True, kw_only=True)
class Look:
    """How a provider's papers look: its main colour, the fonts of titles and of all else, and its logo (PNG), where it
    has one."""

    main_colour: str
    title_font: str
    text_font: str
    logo: bytes = b""


@dataclass(frozen=True, slots=True, kw_only=True)
class Entry:
    """An entry of an account on a statement: what it was, its amount, above 0 where it is owed, and what was owed
    then."""

    on: date
    what: str
    amount: Decimal
    balance: Decimal


@dataclass(frozen=True, slots=True, kw_only=True)
class StatementOfAccount:
    """What a consumer owed and paid between two days, both among them, and what is open at the end of the last."""

    seller: str
    address: str
    buyer: str
    buyer_address: str
    first: date
    last: date
    currency: str
    before: Decimal
    entries: Sequence[Entry]
    after: Decimal
    open: Sequence[tuple[str, date, Decimal]]
    iban: str = ""
    bic: str = ""


def document(of: Issued, look: Look) -> bytes:
    """An invoice or a credit note as a PDF; with the electronic invoice in it, where nothing that one has to say is
    missing."""
    title = f"{of.kind.capitalize()} {of.number}"
    pdf = _written(
        "document",
        look,
        title,
        of=of,
        groups=[(name, list(lines)) for name, lines in groupby(of.lines, key=_of_subscription)],
        code=payment_code(of),
    )
    if missing(of):
        return pdf
    from facturx import generate_from_binary

    about = {"author": of.seller.name, "title": title, "subject": title, "keywords": of.kind}
    known = {"flavor": "factur-x", "level": "en16931", "check_xsd": False, "check_schematron": False}
    return bytes(generate_from_binary(pdf, electronic.cii(of), pdf_metadata=about, lang="en-GB", **known))


def statement(of: StatementOfAccount, look: Look) -> bytes:
    """A statement of account as a PDF."""
    return _written("statement", look, f"Statement of account of {of.buyer}", of=of)


def _of_subscription(line: IssuedLine) -> str:
    return line.subscription


def _written(name: str, look: Look, title: str, **fields: Any) -> bytes:
    # Only whoever writes papers pays for the library: it takes a second and fifty megabytes.
    from weasyprint import HTML
    from weasyprint.urls import URLFetcher

    # It has every picture be read that is cut off, whoever reads it: pictures that people send are to be whole.
    ImageFile.LOAD_TRUNCATED_IMAGES = False
    page = _template(name).render(look=look, title=title, fonts=_fonts(look), logo=_picture(look.logo), **fields)
    # What people typed is text there; nothing is fetched but the fonts and pictures that are named here.
    own = URLFetcher(allowed_protocols=("data", "file"))
    with _ONE_AT_A_TIME:
        pdf = HTML(string=page, url_fetcher=own).write_pdf(pdf_variant="pdf/a-3a", pdf_tags=True)
    assert pdf is not None
    return bytes(pdf)


def _fonts(look: Look) -> str:
    """The rules that name the fonts of a look."""
    rules = []
    for family in dict.fromkeys((look.title_font, look.text_font)):
        folder = family.lower().replace(" ", "-")
        for subset in _SUBSETS:
            file = FONTS / folder / "files" / f"{folder}-{subset}-wght-normal.woff2"
            if file.exists():
                rules.append(
                    f"@font-face{{font-family:'{family}';src:url('{file.as_uri()}');unicode-range:{_RANGES[subset]}}}"
                )
    return "".join(rules)


_RANGES = {
    "latin": "U+0000-00FF,U+0131,U+0152-0153,U+02BB-02BC,U+02C6,U+02DA,U+02DC,U+2000-206F,U+20AC,U+2122,U+2191,U+2193,"
    "U+2212,U+2215,U+FEFF,U+FFFD",
    "latin-ext": "U+0100-02BA,U+02BD-02C5,U+02C7-02CC,U+02CE-02D7,U+02DD-02FF,U+1E00-1E9F,U+1EF2-1EFF,U+20A0-20AB,"
    "U+20AD-20C0,U+2113,U+2C60-2C7F,U+A720-A7FF",
}


def _picture(content: bytes) -> str:
    return f"data:image/png;base64,{base64.b64encode(content).decode()}" if content else ""


@cache
def _template(name: str) -> Template:
    folder = resources.files("calm_tariff.formats.money_documents")
    made = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    made.filters.update(day=_day, fours=_fours, lines=_lines, country=_country)
    made.globals.update(money=in_digits, between=_between)
    style = folder.joinpath("paper.css").read_text("utf-8")
    source = folder.joinpath(f"{name}.html.jinja").read_text("utf-8")
    return made.from_string(source, globals={"style": style})


def _day(value: date | None) -> str:
    return f"{value:%-d %B %Y}" if value else ""


def _between(first: date, last: date) -> str:
    """Two days, both meant, without what they share."""
    if first == last:
        return _day(first)
    if (first.year, first.month) == (last.year, last.month):
        return f"{first.day} to {_day(last)}"
    return f"{f'{first:%-d %B}' if first.year == last.year else _day(first)} to {_day(last)}"


def _country(code: str) -> str:
    return countries().get(code, code)


def _fours(text: str) -> str:
    """A number in groups of four, as people read it."""
    return " ".join(text[n : n + 4] for n in range(0, len(text), 4))


def _lines(text: str) -> list[str]:
    return [line for line in map(str.strip, text.splitlines()) if line]
