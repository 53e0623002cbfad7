"""Of every table with a consumer's rows it is known whether they go over to the organisation that goes on."""

from __future__ import annotations

from calm_tariff.store.observe.merging import OVER
from calm_tariff.store.tables import metadata

# Members, applications and invitations go one by one; looks at a portal end.
ONE_BY_ONE = {"member", "application", "member_invitation", "looked_as"}
# What was done, counted, charged and told under its id stays under it: whoever goes on is shown it by `with_merged`.
STAYS = {
    "application_before",
    "call",
    "hourly_outcomes",
    "hourly_verdicts",
    "daily_verdicts",
    "money_document",
    "adjustment",
    "account_entry",
    "book_difference",
    "strike",
    "suspension",
    "payment_pause",
    "card_page",
    "outside_word",
    "payment_card",
    "event",
    "consumer_reference",
    "import_row",
    "post_report",
}


def test_every_table_with_rows_of_consumers_is_known() -> None:
    over = {each.table.name for each in OVER}
    there = {table.name for table in metadata.sorted_tables if "consumer_id" in table.c}
    assert there == over | ONE_BY_ONE | STAYS
    assert len(over) + len(ONE_BY_ONE) + len(STAYS) == len(there)


def test_what_there_can_be_but_one_of_is_told_apart_by_its_key() -> None:
    for each in OVER:
        unique = [set(each.table.primary_key.columns.keys())]
        if each.one is not None:
            assert {"consumer_id", *each.one} in unique, each.table.name
        else:
            assert "consumer_id" not in each.table.primary_key.columns, each.table.name
