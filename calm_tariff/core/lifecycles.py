"""The states things can be in, and the moves between them (product.md, States)."""

from __future__ import annotations

from calm_tariff.core.errors import Conflict

Moves = dict[str, frozenset[str]]


def _moves(**table: str) -> Moves:
    return {
        state.replace("_", " "): frozenset(filter(None, (name.strip() for name in to.split(","))))
        for state, to in table.items()
    }


API_VERSION = _moves(draft="live", live="sunset", sunset="live, gone", gone="")
CONSUMER = _moves(
    waiting="let in, turned away",
    let_in="suspended, closed",
    suspended="let in, closed",
    turned_away="let in",
    closed="",
)
METER = _moves(active="paused, archived", paused="active, archived", archived="active")
PLAN = _moves(draft="on sale", on_sale="closed", closed="on sale, withdrawn", withdrawn="")
# What was granted or declined waits again where that is undone before anybody was told.
REQUEST = _moves(
    waiting="asked back, passed to outside, granted, declined, taken back",
    asked_back="waiting, passed to outside, granted, declined, taken back",
    passed_to_outside="granted, declined, taken back",
    granted="waiting",
    declined="waiting",
    taken_back="",
)
SUBSCRIPTION = _moves(trial="active, ended", active="paused, ended", paused="active, ended", ended="")
KEY = _moves(active="retiring, expired, revoked", retiring="expired, revoked", expired="", revoked="")
# A question or an answer.
POST = _moves(shown="hidden, taken back", hidden="shown", taken_back="")
INVOICE = _moves(
    draft="issued, nothing due",
    nothing_due="",
    issued="paid, overdue, credited, written off",
    overdue="issued, paid, credited, written off",
    paid="issued, overdue",
    credited="",
    written_off="issued, overdue",
)
# What is paid or written off is open again where a payment goes back.
# Drafting a month's invoices, or issuing them.
CHARGE_RUN = _moves(running="stopped, done", stopped="running", done="")
# A line that a person adds to a draft; a second one may have to agree.
ADJUSTMENT = _moves(waiting="agreed, taken back", agreed="taken back", taken_back="")

# Writing off what is open of an invoice; a second person may have to agree.
WRITE_OFF = _moves(waiting="agreed, taken back", agreed="", taken_back="")

# A file of calls that other gateways counted.
USAGE_FILE = _moves(
    checking="checked, refused",
    checked="recording",
    recording="stopped, done",
    stopped="recording",
    done="",
    refused="",
)

# A card is charged for an invoice: once it was asked for, it is asked for again until the answer is known.
PAYMENT_ATTEMPT = _moves(planned="tried, called off", tried="taken, failed", taken="", failed="", called_off="")
# Credit on account goes back to a card.
CARD_REFUND = _moves(planned="paid out, failed", paid_out="", failed="")
# A period's documents are put together in one archive.
BUNDLE = _moves(running="stopped, done", stopped="", done="")
# The books are looked through.
BOOKS_AUDIT = _moves(running="stopped, done", stopped="", done="")
# Units of an hour are handed on to whoever bills outside; what was refused there is handed on again when a person says.
HANDED = _moves(waiting="sent", sent="accepted, refused", refused="waiting", accepted="")
# Who paid by card says that it was not right.
DISPUTE = _moves(open="won, lost", won="", lost="")

# An entry of a bank statement: looked at by the rule, then by a person where it was not sure.
BANK_ENTRY = _moves(
    new="matched, waiting",
    matched="waiting",
    waiting="assigned, sent back, left alone",
    assigned="waiting",
    sent_back="waiting",
    left_alone="waiting",
)

# An invoice in these states is still to be paid.
UNPAID = frozenset({"issued", "overdue"})
# What is in one of these was never sent to anybody.
NOT_ISSUED = frozenset({"draft", "nothing due"})
# An API version in these states answers calls.
ANSWERING = frozenset({"live", "sunset"})
# A request in these states waits for somebody's word.
UNDECIDED = frozenset({"waiting", "asked back", "passed to outside"})
# Of these, those that are decided here.
ON_THE_DESK = frozenset({"waiting", "asked back"})
# A subscription in these states lets calls through.
CALLING = frozenset({"trial", "active"})
# A key in these states is a credential.
VALID_KEY = frozenset({"active", "retiring"})


def move(table: Moves, thing: str, state: str, to: str) -> str:
    """The new state. Raises `Conflict`, naming the thing and both states, for a move not in the table."""
    if to not in table[state]:
        allowed = ", ".join(sorted(table[state])) or "nothing"
        raise Conflict(f"it is {state} and cannot become {to} (from there: {allowed})", thing)
    return to
