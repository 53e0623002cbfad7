"""CAMT.053 files as banks send them, made for tests."""

from __future__ import annotations

from dataclasses import dataclass

VERSION_2 = "urn:iso:std:iso:20022:tech:xsd:camt.053.001.02"
VERSION_8 = "urn:iso:std:iso:20022:tech:xsd:camt.053.001.08"
IBAN = "PT50000201231234567890154"


@dataclass(frozen=True)
class Sent:
    """A transfer: above 0 it came in."""

    reference: str
    amount: str
    text: str = ""
    creditor_reference: str = ""
    name: str = "Ferries"
    day: str = "2026-10-05"
    currency: str = "EUR"
    state: str = "BOOK"


def camt(*sent: Sent, iban: str = IBAN, version: str = VERSION_2) -> str:
    """A statement of one account with these entries."""
    entries = "".join(_entry(each, version) for each in sent)
    account = f"<Acct><Id><IBAN>{iban}</IBAN></Id><Ccy>EUR</Ccy></Acct>"
    return (
        f'<?xml version="1.0" encoding="UTF-8"?>\n<Document xmlns="{version}"><BkToCstmrStmt><GrpHdr><MsgId>1</MsgId>'
        f"</GrpHdr><Stmt><Id>2026-1</Id>{account}{entries}</Stmt></BkToCstmrStmt></Document>"
    )


def _entry(of: Sent, version: str) -> str:
    incoming = not of.amount.startswith("-")
    way, other = ("CRDT", "Dbtr") if incoming else ("DBIT", "Cdtr")
    later = version == VERSION_8
    state = f"<Cd>{of.state}</Cd>" if later else of.state
    name = f"<Pty><Nm>{of.name}</Nm></Pty>" if later else f"<Nm>{of.name}</Nm>"
    strd = f"<Strd><CdtrRefInf><Ref>{of.creditor_reference}</Ref></CdtrRefInf></Strd>" if of.creditor_reference else ""
    ustrd = f"<Ustrd>{of.text}</Ustrd>" if of.text else ""
    return (
        f'<Ntry><Amt Ccy="{of.currency}">{of.amount.lstrip("-")}</Amt><CdtDbtInd>{way}</CdtDbtInd><Sts>{state}</Sts>'
        f"<BookgDt><Dt>{of.day}</Dt></BookgDt><ValDt><Dt>{of.day}</Dt></ValDt><AcctSvcrRef>{of.reference}</AcctSvcrRef>"
        f"<NtryDtls><TxDtls><RltdPties><{other}>{name}</{other}><{other}Acct><Id><IBAN>DE89370400440532013000</IBAN>"
        f"</Id></{other}Acct></RltdPties><RmtInf>{ustrd}{strd}</RmtInf></TxDtls></NtryDtls></Ntry>"
    )
