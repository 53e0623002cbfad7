"""Documents of money by themselves: the checks *documents* and *numbers*.

Source: docs/arithmetic.md, sections 5 and 7.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Iterator, Mapping
from datetime import date
from decimal import Decimal
from typing import Any

from sqlalchemy import func, select

from calm_tariff.core.billing.books.proof import Difference, Proof
from calm_tariff.core.billing.documents import credit_notes, late, tax
from calm_tariff.core.billing.documents.credit_notes import LeftOfGroup
from calm_tariff.core.billing.documents.late import LateCase
from calm_tariff.core.billing.documents.tax import Taxed, TaxGroup, TaxRule
from calm_tariff.core.rating import RatingCase, rate
from calm_tariff.formats.values import read
from calm_tariff.services.settle.books.looking import Looking
from calm_tariff.store.compose.meters import Meter
from calm_tariff.store.settle.document_files import DocumentFile
from calm_tariff.store.settle.money_documents import (
    CreditNote,
    DocumentTax,
    Invoice,
    MoneyDocument,
    MoneyLine,
    NumberSeries,
)

ZERO = Decimal(0)
AT_ONCE = 200
_KEPT = MoneyDocument.state != "draft"


def proof(of: Looking) -> Proof:
    """Whether documents come to what their lines, their tax groups and their evidence do."""
    lines, groups = _line_sums(of), _tax_groups(of)
    corrects = dict(of.session.execute(select(CreditNote.id, CreditNote.corrects_id)).all())
    rest: dict[int, dict[TaxRule, LeftOfGroup]] = defaultdict(dict)
    differences: list[Difference] = []
    compared, totals, from_lines = 0, ZERO, ZERO
    only = (MoneyDocument.id, MoneyDocument.kind, MoneyDocument.number, MoneyDocument.consumer_id)
    amounts = (MoneyDocument.period_start, MoneyDocument.subtotal, MoneyDocument.tax, MoneyDocument.total)
    for row in of.session.execute(select(*only, *amounts).where(_KEPT).order_by(MoneyDocument.id)):
        told = lines.get(row.id, {})
        worked_out = tax.groups((Taxed(rule=rule, amount=amount) for rule, amount in told.items()), of.currency)
        kept = groups.get(row.id, {})
        taxes = _taxes(worked_out, kept, rest[corrects.get(row.id, row.id)], note=row.id in corrects)
        subtotal = sum(told.values(), ZERO)
        due = subtotal + sum(taxes.values(), ZERO)
        differing = [
            ("the subtotal", row.subtotal, "lines", subtotal),
            ("the total", row.total, "lines, with tax", due),
            *(
                (f"tax of {rule.percent:f}%", kept.get(rule, ZERO), "worked out", due_tax)
                for rule, due_tax in taxes.items()
            ),
            ("tax in all", row.tax, "tax groups", sum(kept.values(), ZERO)),
        ]
        compared += 1
        sign = -1 if row.kind == "credit note" else 1
        totals, from_lines = totals + sign * row.total, from_lines + sign * due
        differences += [
            _difference("documents", row, f"{what} of {_called(row)}", (("document", said), (name, found)))
            for what, said, name, found in differing
            if said != found
        ]
    differences += _evidence(of)
    sums = (("documents", totals), ("their lines, with tax", from_lines))
    return Proof(check="documents", compared=compared, sums=sums, differences=tuple(differences))


def numbers_proof(of: Looking) -> Proof:
    """Whether every number of each series was given once, and files are those that were written."""
    given: dict[tuple[str, int], set[int]] = defaultdict(set)
    for kind, number in of.session.execute(
        select(MoneyDocument.kind, MoneyDocument.number).where(MoneyDocument.number.is_not(None))
    ):
        _, of_year, place = (number or "").rsplit("-", 2)
        given[kind, int(of_year)].add(int(place))
    differences, count, ended = [], 0, 0
    series = {(s.kind, s.year): s.last for s in of.session.scalars(select(NumberSeries))}
    for kind, year in sorted({*given, *series}):
        places, last = given.get((kind, year), set()), series.get((kind, year), 0)
        count, ended = count + len(places), ended + last
        if places != set(range(1, last + 1)):
            missing = sorted(set(range(1, last + 1)) ^ places)
            named = ", ".join(map(str, missing[:5])) + (" and more" if len(missing) > 5 else "")
            said = (("numbers given", Decimal(len(places))), ("the last of them", Decimal(last)))
            differences.append(Difference(check="numbers", what=f"numbers of {kind}s in {year}: {named}", sums=said))
    changed = (
        select(DocumentFile.document_id, DocumentFile.form, MoneyDocument.number)
        .join(MoneyDocument, MoneyDocument.id == DocumentFile.document_id)
        .where(func.sha2(DocumentFile.content, 256) != DocumentFile.digest)
    )
    for document_id, form, number in of.session.execute(changed):
        said = (("as it was written", Decimal(1)), ("as it is", ZERO))
        what = f"the {form.upper()} of {number}"
        differences.append(Difference(check="numbers", what=what, sums=said, document_id=document_id))
    sums = (("documents with a number", Decimal(count)), ("numbers given", Decimal(ended)))
    return Proof(check="numbers", compared=len({*given, *series}), sums=sums, differences=tuple(differences))


def _taxes(
    groups: Iterable[TaxGroup], kept: Mapping[TaxRule, Decimal], rest: dict[TaxRule, LeftOfGroup], *, note: bool
) -> dict[TaxRule, Decimal]:
    """What the tax of a document's groups comes to. A `note` takes from the `rest` that is left of its invoice's, and
    all of it with the last of its lines; notes of an earlier time each stood for themselves."""
    if not note:
        rest |= {group.rule: LeftOfGroup(group.base, group.tax) for group in groups}
        return {group.rule: group.tax for group in groups}
    found = {}
    for group in groups:
        left = rest.get(group.rule)
        whole = credit_notes.tax_back(group.base, group.tax, left)
        found[group.rule] = group.tax if kept.get(group.rule) == group.tax else whole
        if left is not None:
            rest[group.rule] = left.less(group.base, found[group.rule])
    return found


def _line_sums(of: Looking) -> dict[int, dict[TaxRule, Decimal]]:
    found: dict[int, dict[TaxRule, Decimal]] = defaultdict(dict)
    query = select(MoneyLine.document_id, MoneyLine.treatment, MoneyLine.percent, func.sum(MoneyLine.amount))
    for document, treatment, percent, amount in of.session.execute(
        query.group_by(MoneyLine.document_id, MoneyLine.treatment, MoneyLine.percent)
    ):
        rule = TaxRule(treatment=tax.treatment(treatment), percent=percent.normalize())
        found[document][rule] = found[document].get(rule, ZERO) + amount
    return found


def _tax_groups(of: Looking) -> dict[int, dict[TaxRule, Decimal]]:
    found: dict[int, dict[TaxRule, Decimal]] = defaultdict(dict)
    columns = DocumentTax.document_id, DocumentTax.treatment, DocumentTax.percent, DocumentTax.tax
    for document, treatment, percent, amount in of.session.execute(select(*columns)):
        found[document][TaxRule(treatment=tax.treatment(treatment), percent=percent.normalize())] = amount
    return found


def _evidence(of: Looking) -> Iterator[Difference]:
    """Invoices whose lines are not what their evidence comes to: each line by itself, and the units of its days."""
    session = of.session
    keys = dict(session.execute(select(Meter.id, Meter.key)).all())
    ids = session.scalars(select(Invoice.id).where(_KEPT).order_by(Invoice.id)).all()
    for first in range(0, len(ids), AT_ONCE):
        some = ids[first : first + AT_ONCE]
        lines: dict[int, list[MoneyLine]] = defaultdict(list)
        query = (
            select(MoneyLine).where(MoneyLine.document_id.in_(some)).order_by(MoneyLine.document_id, MoneyLine.place)
        )
        for line in session.scalars(query.order_by(MoneyLine.document_id, MoneyLine.place)):
            lines[line.document_id].append(line)
        for invoice in session.scalars(select(Invoice).where(Invoice.id.in_(some)).order_by(Invoice.id)):
            yield from _of_invoice(invoice, lines[invoice.id], keys)
        session.expunge_all()


def _of_invoice(invoice: Invoice, lines: list[MoneyLine], keys: dict[int, str]) -> Iterator[Difference]:
    expected: dict[Any, tuple[Decimal, Decimal | None]] = {}
    counted: dict[Any, int] = {}
    for line in rate(read(RatingCase, invoice.evidence)).lines:
        alike = (line.segment, line.kind, line.meter)
        counted[alike] = counted.get(alike, -1) + 1
        expected["own", invoice.period_start, *alike, counted[alike]] = (line.amount, line.quantity)
    for kept in (invoice.late_cases or {}).values():
        case = read(LateCase, kept["case"])
        for each in late.parted(late.differences(case)).late:
            key = ("late", case.case.period.start, each.segment, each.kind, each.meter, each.nth)
            expected[key] = (each.amount, each.quantity)
    there: dict[Any, MoneyLine] = {}
    for stored in lines:
        if stored.sort in ("own", "late"):
            meter = keys.get(stored.meter_id or 0)
            there[stored.sort, stored.belongs_to, stored.segment, stored.kind, meter, stored.nth] = stored
    for key in [*expected, *(key for key in there if key not in expected)]:
        yield from _of_line(invoice, key, there.get(key), expected.get(key, (ZERO, None)))


def _of_line(
    invoice: Invoice, key: tuple[str, date, int, str, str | None, int], line: MoneyLine | None, expected: Any
) -> Iterator[Difference]:
    _, period, _, kind, meter, _ = key
    what = f"{kind}{f' ({meter})' if meter else ''} of {period:%B %Y} on {_called(invoice)}"
    amount, quantity = (line.amount, line.quantity) if line is not None else (ZERO, None)
    pairs = [("evidence", "amount", amount, expected[0])]
    if kind == "usage":
        pairs.append(("evidence", "units", quantity or ZERO, expected[1] or ZERO))
        if line is not None and line.by_day is not None:
            days = sum((Decimal(units) for _, units in line.by_day), ZERO)
            pairs.append(("its days", "units", quantity or ZERO, days))
    for name, measure, said, found in pairs:
        if said != found:
            yield _difference("documents", invoice, f"{measure} of {what}", (("line", said), (name, found)))


def _called(row: Any) -> str:
    return row.number or f"what was not due in {row.period_start:%B %Y}"


def _difference(check: Any, row: Any, what: str, sums: tuple[tuple[str, Decimal], ...]) -> Difference:
    return Difference(
        check=check,
        what=what,
        sums=sums,
        period=row.period_start,
        consumer_id=row.consumer_id,
        document_id=row.id,
    )
