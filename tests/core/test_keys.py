"""The form of keys: what is mistyped is told from what is unknown, and what is shown helps nobody to guess the rest."""

from __future__ import annotations

import base64
import binascii
import hashlib
import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.core import keys
from calm_tariff.core.errors import Invalid

KEY = keys.made("key", "live", "a seed")


def test_a_key_says_what_it_is_for_and_is_found_in_a_text() -> None:
    assert re.fullmatch(r"calmkey-live-[0-9a-hjkmnp-tv-z]{39}", KEY)
    assert keys.made("secret", "sandbox", "x").startswith("calmsecret-sandbox-")
    assert keys.made("key", "live", "a seed") == KEY != keys.made("key", "live", "another")
    assert not keys.is_mistyped(KEY)
    # The checksum is CRC-32 of what stands before it, so that others can work it out, too.
    number = 0
    for symbol in KEY[-7:]:
        number = number * 32 + "0123456789abcdefghjkmnpqrstvwxyz".index(symbol)
    assert number == binascii.crc32(KEY[:-7].encode())


@given(st.integers(0, len(KEY) - 1), st.sampled_from(keys.SYMBOLS + "-ilou XZ"))
def test_one_wrong_symbol_anywhere_is_told(place: int, symbol: str) -> None:
    changed = KEY[:place] + symbol + KEY[place + 1 :]
    ours = changed.startswith(("calmkey-", "calmsecret-"))
    assert keys.is_mistyped(changed) == (changed != KEY and ours)


@given(st.integers(8, len(KEY) - 1), st.integers(0, 37))
def test_one_that_was_cut_or_has_two_symbols_exchanged_is_told(length: int, place: int) -> None:
    assert keys.is_mistyped(KEY[:length]) and keys.is_mistyped(KEY + "0") and keys.is_mistyped(f"{KEY} ")
    body = len("calmkey-live-") + place
    swapped = KEY[:body] + KEY[body + 1] + KEY[body] + KEY[body + 2 :]
    assert keys.is_mistyped(swapped) == (swapped != KEY)


def test_one_of_another_form_may_be_one() -> None:
    for text in ("lt_live_pp47AbCd", "my-own-key-of-thirty-two-characters", "", "calm"):
        assert not keys.is_mistyped(text)


def test_what_is_shown_is_four_symbols_of_thirty_two() -> None:
    assert keys.beginning(KEY) == KEY[: len("calmkey-live-") + 4]
    assert keys.beginning("lt_live_pp47AbCdEf") == "lt_live_pp47"


@pytest.mark.parametrize(
    "wrong",
    [
        "x" * 31,
        "short-key-of-ours-2026",
        "a" * 64,
        "0123456789" * 6,
        "password-password-password-password",
        "a key with spaces in it, of 32 characters or more",
        "schlüssel-4f0c1e9a7b3d5f20864b1c9d7e3a5f",
        "7f3c9e1b5a8d2064e7f1c3b9a5d80e2f\u200b",
        "k" * 201,
        KEY,
    ],
)
def test_a_key_that_is_short_or_could_be_guessed_cannot_be_brought_along(wrong: str) -> None:
    with pytest.raises(Invalid) as error:
        keys.brought(wrong)
    assert error.value.where == "brought"


@given(st.binary(min_size=20, max_size=32))
def test_random_ones_can_be_and_show_little_of_themselves(seed: bytes) -> None:
    text = hashlib.sha256(seed).hexdigest()
    for key in (text, base64.b64encode(bytes.fromhex(text)).decode(), f"  {text}\n"):
        assert keys.brought(key) == key.strip()
        assert keys.beginning_of_brought(keys.brought(key)) == key.strip()[:4]


def test_an_application_for_the_sandbox_alone_has_no_live_keys() -> None:
    fit = {(a, k): keys.fits(a, k) for a in ("live", "sandbox") for k in ("live", "sandbox")}
    assert fit == {
        ("live", "live"): True,
        ("live", "sandbox"): True,
        ("sandbox", "live"): False,
        ("sandbox", "sandbox"): True,
    }


def test_a_key_in_a_text_is_cut_to_its_beginning() -> None:
    key, secret = keys.made("key", "live", "a"), keys.made("secret", "sandbox", "b")
    text = keys.blanked(f"k={key}&s={secret}, and {key[:-7]} that is cut")
    assert key[20:] not in text and secret[24:] not in text
    assert text == f"k={keys.beginning(key)}…&s={keys.beginning(secret)}…, and {keys.beginning(key)}… that is cut"
    assert keys.blanked("calmkey-live- is how one begins") == "calmkey-live- is how one begins"
