"""What people read about who belongs to an organisation, and about closing its account."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date

from calm_tariff.core.membership import Role
from calm_tariff.core.payment import Payment
from calm_tariff.core.sentences.listing import listed


def role_in_words(role: Role) -> str:
    """What somebody may do who belongs to an organisation (core.membership)."""
    return {
        "owner": "May do all of it: what developers and billing members may, move and end subscriptions, say who "
        "belongs to it, and close the account.",
        "developer": "Has the applications and their keys, asks for plans, sees usage and calls, and asks, "
        "answers and rates; no invoices.",
        "billing": "Sees invoices, usage and calls, and says how invoices are paid; no keys, and changes nothing else.",
    }[role]


def payment_in_words(payment: Payment) -> str:
    """How somebody pays, as it is said of a consumer and of an invoice."""
    by = f"by {payment.method}"
    return f"{by}, order number {payment.order_number}" if payment.order_number else by


_ENTRIES = {
    "invoice": "Invoice",
    "credit note": "Credit note",
    "payment": "Payment",
    "refund": "Paid out",
    "write-off": "Written off",
    "returned payment": "Payment that went back",
}


def entry_in_words(kind: str, number: str, way: str) -> str:
    """An entry of an account: what it was, by which way, and the document that it is or names."""
    said = f"{_ENTRIES[kind]} by {way}" if way and kind in ("payment", "refund") else _ENTRIES[kind]
    if not number:
        return said
    return f"{said} {number}" if kind in ("invoice", "credit note") else f"{said}, for {number}"


def closing_in_words(
    *,
    keys: int,
    requests: int,
    invitations: int,
    shut_out: Sequence[str],
    unpaid: Sequence[str],
    last_month: date | None,
) -> list[str]:
    """What closing an account brings with it besides the ends of its subscriptions. `shut_out` are the members who
    cannot sign in any more, `unpaid` the numbers of invoices, `last_month` that of the invoice to come, if one is."""
    said = []
    if keys:
        said.append("One key is good no more." if keys == 1 else f"{keys} keys are good no more.")
    if requests:
        said.append("One request is taken back." if requests == 1 else f"{requests} requests are taken back.")
    if invitations:
        count = "One invitation is" if invitations == 1 else f"{invitations} invitations are"
        said.append(f"{count} taken back.")
    if shut_out:
        said.append(f"{listed(shut_out)} cannot sign in any more.")
    said.append("Owners and billing members still can, to see usage, calls and invoices.")
    if last_month:
        said.append(f"What was used until now is charged with the invoice for {last_month:%B %Y}.")
    if unpaid:
        be, stay = ("is", "stays") if len(unpaid) == 1 else ("are", "stay")
        said.append(f"{listed(unpaid)} {be} not paid, and {stay} due.")
    said.append("An account that is closed is not opened again, and nobody else can have its name.")
    return said


def goes_in_words(*, letters: int, notices: int, posts: int, entries: int, organisation: bool) -> list[str]:
    """What goes where the personal data of somebody, or of everybody of an organisation, is erased."""
    said = []
    if organisation:
        said.append(
            "Its name, the names and addresses of its members, and the contacts and purposes of its applications."
        )
        said.append("What was said about its requests, notes about it, and where its calls came from.")
    else:
        said.append("The name and address, and what opened the account: password, second factor, passkeys, sessions.")
    for count, one, many in (
        (letters, "One letter that was sent.", "letters that were sent."),
        (notices, "One notice.", "notices."),
        (posts, "The words of one question or answer.", "questions and answers lose their words."),
        (entries, "The words of one entry of the record.", "entries of the record lose their words."),
    ):
        if count:
            said.append(one if count == 1 else f"{count:,} {many}")
    return said


def stays_in_words(*, invoices: int, organisation: bool) -> list[str]:
    """What stays, where that is erased."""
    said = []
    if invoices:
        be = "One invoice stays" if invoices == 1 else f"{invoices:,} invoices stay"
        said.append(f"{be}, under another name, with the same lines and sums.")
    if organisation:
        said.append("Recorded calls stay, without where they came from, as do the counts and charges made of them.")
    else:
        said.append("What was done stays, as done by somebody whose name is erased.")
    said.append("The record's entries keep their place in its chain, which still proves itself.")
    return said


def merging_in_words(
    *,
    name: str,
    into: str,
    members: Sequence[str],
    owners: Sequence[str],
    applications: int,
    renamed: Sequence[tuple[str, str]],
    shared: bool,
    month: date,
    drafts: int,
    invoices: int,
    portal: str,
) -> list[str]:
    """What merging one organisation into another brings with it. `members` keep their role there, `owners` become
    developers; `renamed` are the applications that are called otherwise there; `shared` says that some of its
    allowances are counted for an organisation as a whole; `month` is the running one, with `drafts` of both for it;
    `portal` the other's, where that is not its own."""
    said = []
    if members:
        said.append(f"{listed(members)} {'belongs' if len(members) == 1 else 'belong'} to {into} from then on.")
    if owners:
        belong, role = ("belongs", "a developer") if len(owners) == 1 else ("belong", "developers")
        said.append(f"{listed(owners)} {belong} to {into} from then on, as {role}.")
    if portal:
        said.append(f"They sign in at the portal {portal} from then on.")
    if applications:
        goes = "One application goes" if applications == 1 else f"{applications} applications go"
        said.append(f"{goes} over with keys, subscriptions and requests; calls go on as before.")
    said += [f"“{was}” is called “{now}” there." for was, now in renamed]
    if shared:
        said.append(f"What is counted for an organisation as a whole is counted with {into} from then on.")
        said.append("What was used of it before then is not added.")
    said.append("Groups, notes, alerts, accepted terms and invitations go over where the other has none of the kind.")
    said.append(f"{month:%B %Y} is charged to {into} for both; the months before it, to each for itself.")
    if drafts:
        thrown = "A draft for it is" if drafts == 1 else f"{drafts} drafts for it are"
        said.append(f"{thrown} thrown away; the next charge run makes one anew.")
    if invoices:
        kept = "Its one invoice stays as it is" if invoices == 1 else f"Its {invoices} invoices stay as they are"
        said.append(f"{kept}, to be seen beside those of {into}.")
    said.append(f"The account of {name} is closed. Nothing parts the two again, and nobody else can have its name.")
    return said
