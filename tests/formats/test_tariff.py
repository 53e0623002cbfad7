"""The tariff as a document: what is refused, and where, and that the published schema is the reader's."""

import json
from pathlib import Path

import pytest

from calm_tariff.core.errors import Invalid
from calm_tariff.core.terms import PlanTerms
from calm_tariff.formats.tariff import Tariff, TariffPlan, TariffProduct, read_tariff, schema, write_tariff
from calm_tariff.formats.values import read
from tests.office import terms

SCHEMA = Path(__file__).parents[2] / "docs" / "tariff.schema.json"


def tariff(name: str = "1e5", text: str = "line\n\n  two: # no\n") -> Tariff:
    plan = TariffPlan(name=name, terms=read(PlanTerms, {**terms(), "notes": text}))
    product = TariffProduct(name="on", operations=("Tides v1 GET /a/{b}:c",), terms_of_use=text, plans=(plan,))
    return Tariff(format="calm-tariff/1", currency="EUR", products=(product,))


@pytest.mark.parametrize("name", ["1e5", "0.10", "null", "- x", 'it\'s: "so"', "ão ✓", " spaced "])
@pytest.mark.parametrize("text", ["one", "line\n\n  two: # no\n", "ends\n\n", "\ttab\r\nreturn", "' \" \\ {}"])
def test_what_is_written_is_read_again_to_the_letter(name: str, text: str) -> None:
    assert read_tariff(write_tariff(tariff(name, text))) == tariff(name, text)


@pytest.mark.parametrize(
    ("change", "where"),
    [
        (("format: calm-tariff/1", "format: calm-tariff/2"), "format"),
        (("burst: 20", "brust: 20"), "products[0].plans[0].terms.limits[0].brust"),
        (("burst: 20", "burst: many"), "products[0].plans[0].terms.limits[0].burst"),
        (("amount: '40'", "amount: forty"), "products[0].plans[0].terms.pricing.prices[0].amount"),
        (("    terms:", "    term:"), "products[0].plans[0].term"),
        (("currency: EUR\n", ""), "currency"),
        (("state: draft", "state: sold"), "products[0].plans[0].state"),
        (("products:", "products: ["), "line"),
    ],
)
def test_a_document_that_is_wrong_is_refused_by_line_or_field(change: tuple[str, str], where: str) -> None:
    text = write_tariff(tariff())
    assert change[0] in text
    with pytest.raises(Invalid) as refused:
        read_tariff(text.replace(*change, 1))
    assert refused.value.where.startswith(where)


def test_the_published_schema_is_the_readers() -> None:
    assert json.loads(SCHEMA.read_text()) == schema(), "run: ./calm tariff schema > docs/tariff.schema.json"
