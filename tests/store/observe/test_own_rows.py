"""Every column in which words can stand is known: a consumer's own, somebody's who may speak of one, or nobody's."""

from __future__ import annotations

from sqlalchemy import JSON, String
from sqlalchemy import Text as LongText

from calm_tariff.store.base.record import AuditEntry
from calm_tariff.store.observe.own_rows import ADDRESSED, HIDDEN, OWN, SPOKEN
from calm_tariff.store.tables import metadata

# The provider's own words, figures and secrets: no consumer or member is named in them.
_OURS = """
    api api_document api_version attempts back_end_health bank_statement charge_run client_package consumer_group
    daily_answers handed_batch handed_try outside_plan_price outside_product
    book_difference book_sum books_audit bundle bundle_part
    decline_reason document_reading event_endpoint house_identity_provider house_limits identity_provider import
    instance journal_month ledger
    meter meter_operation notice_kind number_series operation outside_issuer person person_identity
    person_invitation plan plan_draft plan_group plan_revision portal portal_group portal_page portal_picture
    portal_product product product_group product_operation provider quota_count received_webhook record_end
    release_note request_viewer revoked_token service_token service_token_place signing_key stamp terms_of_use
    alembic_version reckoned_month usage_file usage_file_part usage_file_row usage_source
"""
OURS = set(_OURS.split())
# Of tables that are somebody's: states and kinds, ids, figures, what others chose, and whom the provider names.
UNSPOKEN = {
    "consumer": "look shape state payment_method country tax_treatment",
    "consumer_note": "by identity",
    "suspension": "suspended_by resumed_by",
    "member": "role",
    "application": "environment client_id",
    "access_request": "state way reason ticket ticket_state moves_when",
    "request_agreement": "identity name seat",
    "request_message": "kind",
    "subscription": "state",
    "subscription_override": "limit",
    "coming_move": "kind rest",
    "api_key": "environment prefix key_hash state kind operations",
    "question": "state",
    "answer": "state",
    "post_report": "settled_by",
    "alert": "allowance",
    "alert_reached": "call_id",
    "allowance_told": "allowance",
    "money_document": "kind number currency state payment_method",
    "money_line": "sort kind treatment slices by_day",
    "document_tax": "treatment",
    "draft_review": "findings held_by",
    "adjustment": "treatment state made_by_identity",
    "account_entry": "kind paid_by",
    "write_off": "state made_by_identity",
    "strike": "identity wanted call_ids units",
    "payment_pause": "invoice",
    "outside_customer": "customer formerly standing unpaid_for",
    "outside_subscription_price": "price",
    "outside_word": "word_id kind customer",
    "handed_units": "state customer price",
    "card_page": "page",
    "payment_card": "brand",
    "payment_attempt": "key state charge failure",
    "card_refund": "key state failure",
    "dispute": "reference state",
    "bank_entry": "own_iban reference iban creditor_reference digest state",
    "call": "call_id source environment verdict refused_by method path checks units told credential remarks counted"
    " reported outside_id",
    "hourly_verdicts": "verdict",
    "hourly_outcomes": "environment verdict refused_by",
    "daily_verdicts": "verdict",
    "set_aside": "call_id digest source",
    "event": "type subject_kind by",
    "event_delivery": "what",
    "import_row": "state",
    "job": "kind key",
    "mail": "kind cause page",
    "answered": "actor key request",
    "notice": "audience kind link cause",
    "alert_hook": "url sealed",
    "member_invitation": "token_hash role",
    "audit_entry": "by subject_kind content digest",
}


def test_every_column_of_words_is_known() -> None:
    gone = {own.table.name for own in OWN if own.becomes is None} | {table.name for table, _ in ADDRESSED}
    known = {own.table.name: set(own.becomes) for own in OWN if own.becomes}
    for table, columns in SPOKEN:
        known.setdefault(table.name, set()).update(columns)
    for table, column in ADDRESSED:
        if table.name in known:
            known[table.name].add(column)
    known[AuditEntry.__tablename__] = {"actor", "action", "subject", "before", "after", "why", "salt"}
    unknown = []
    for table in metadata.sorted_tables:
        if table.name in OURS or table.name in gone - known.keys():
            continue
        there = {c.name for c in table.c if isinstance(c.type, String | LongText | JSON)}
        said = known.get(table.name, set()) | set(UNSPOKEN.get(table.name, "").split())
        unknown += [f"{table.name}.{name}" for name in sorted(there - said)]
        assert said <= {c.name for c in table.c}, table.name
    assert unknown == []


def test_no_table_is_said_twice_or_left_out() -> None:
    names = [own.table.name for own in OWN]
    assert len(names) == len(set(names))
    spoken = {table.name for table, _ in SPOKEN} | {table.name for table, _ in ADDRESSED} | {"audit_entry"}
    assert set(metadata.tables) - set(names) - spoken - OURS == set()


def test_no_secret_is_handed_out() -> None:
    for own in OWN:
        if own.handed_out is None:
            continue
        shown = {c.name for c in own.table.c} - HIDDEN
        assert not {n for n in shown if ("hash" in n or "secret" in n or "sealed" in n) and not n.endswith("_id")}, (
            own.table.name
        )
