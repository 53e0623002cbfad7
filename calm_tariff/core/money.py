"""Money: decimal amounts in one currency, rounded once per line (docs/arithmetic.md, section 3)."""

from __future__ import annotations

from collections.abc import Iterable
from decimal import ROUND_HALF_UP, Context, Decimal

from calm_tariff.core.errors import Invalid

# Wide enough that no product of a price and a quantity is ever rounded on the way.
EXACT = Context(prec=60)

# ISO 4217 active codes by the number of digits of their minor unit.
_DIGITS: dict[int, str] = {
    0: "BIF CLP DJF GNF ISK JPY KMF KRW PYG RWF UGX UYI VND VUV XAF XOF XPF",
    3: "BHD IQD JOD KWD LYD OMR TND",
    4: "CLF UYW",
    2: (
        "AED AFN ALL AMD AOA ARS AUD AWG AZN BAM BBD BDT BMD BND BOB BOV BRL BSD BTN BWP BYN BZD CAD CDF "
        "CHE CHF CHW CNY COP COU CRC CUP CVE CZK DKK DOP DZD EGP ERN ETB EUR FJD FKP GBP GEL GHS GIP GMD "
        "GTQ GYD HKD HNL HTG HUF IDR ILS INR IRR JMD KES KGS KHR KPW KYD KZT LAK LBP LKR LRD LSL MAD MDL "
        "MGA MKD MMK MNT MOP MRU MUR MVR MWK MXN MXV MYR MZN NAD NGN NIO NOK NPR NZD PAB PEN PGK PHP PKR "
        "PLN QAR RON RSD RUB SAR SBD SCR SDG SEK SGD SHP SLE SOS SRD SSP STN SVC SYP SZL THB TJS TMT TOP "
        "TRY TTD TWD TZS UAH USD USN UYU UZS VED VES WST XCD YER ZAR ZMW ZWG"
    ),
}
MINOR_DIGITS: dict[str, int] = {code: digits for digits, codes in _DIGITS.items() for code in codes.split()}


def minor_digits(currency: str) -> int:
    """Digits of the currency's minor unit (ISO 4217): JPY 0, EUR 2, KWD 3.

    Raises `Invalid` for a code that is not an active ISO 4217 currency.
    """
    try:
        return MINOR_DIGITS[currency]
    except KeyError:
        raise Invalid(f"{currency!r} is not an ISO 4217 currency code", "currency") from None


def rounded(amount: Decimal, currency: str) -> Decimal:
    """The amount in whole minor units, half away from zero. Never a negative zero."""
    whole = amount.quantize(Decimal(1).scaleb(-minor_digits(currency)), ROUND_HALF_UP, EXACT)
    return abs(whole) if whole == 0 else whole


def in_digits(amount: Decimal, currency: str) -> str:
    """An amount as it stands in letters, with all digits of the minor unit: 7.5 of EUR is 7.50, of JPY 8."""
    return format(rounded(amount, currency), "f")


def plain(number: Decimal) -> str:
    """A decimal as text without exponent and without trailing zeros: 1E+3 is 1000, 2.50 is 2.5."""
    text = format(number, "f")
    if "." in text:
        text = text.rstrip("0").rstrip(".")
    return "0" if text in ("-0", "") else text


def total(amounts: Iterable[Decimal]) -> Decimal:
    """The exact sum."""
    sum_so_far = Decimal(0)
    for amount in amounts:
        sum_so_far = EXACT.add(sum_so_far, amount)
    return sum_so_far


def percent_of(amount: Decimal, percent: Decimal) -> Decimal:
    """That many hundredths of an amount, exact."""
    return EXACT.multiply(EXACT.multiply(amount, percent), Decimal("0.01"))
