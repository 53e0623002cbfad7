"""The beginning of a body: so much of it, as text where it is text."""

from __future__ import annotations

import gzip
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from calm_tariff.formats.bodies import MOST, Beginning, described


def kept(*parts: bytes, **fields: str) -> dict[str, Any]:
    body = Beginning()
    for part in parts:
        body.take(part)
    return described(body, {name.replace("_", "-"): value for name, value in fields.items()}, lambda text: text)


@given(st.lists(st.binary(max_size=3000), max_size=8))
def test_it_is_the_first_of_what_passed_by_and_the_size_of_all_of_it(parts: list[bytes]) -> None:
    body = Beginning()
    for part in parts:
        body.take(part)
    whole = b"".join(parts)
    assert (bytes(body.kept), body.size) == (whole[:MOST], len(whole))


@pytest.mark.parametrize("letter", ["é", "€", "😀"])
@pytest.mark.parametrize("before", range(4))
def test_a_text_that_is_cut_in_the_middle_of_a_character_is_a_text_still(before: int, letter: str) -> None:
    text = "x" * before + letter * MOST
    said = kept(text.encode())
    assert said["cut"] and text.startswith(said["text"]) and MOST - 4 < len(said["text"].encode()) <= MOST


@pytest.mark.parametrize(
    ("body", "fields", "text"),
    [
        (b'{"a": 1}', {"content_type": "application/json"}, '{"a": 1}'),
        (b"\x89PNG\r\n\x1a\n\0\0", {"content_type": "image/png"}, None),
        (b"caf\xe9", {"content_type": "text/plain"}, None),
        (gzip.compress(b"hello", mtime=0), {"content_encoding": "gzip"}, None),
        (b"hello", {"content_encoding": "identity"}, "hello"),
        (b"a\0b", {}, None),
    ],
)
def test_what_is_no_text_is_said_to_be_what_it_is(body: bytes, fields: dict[str, str], text: str | None) -> None:
    said = kept(body, **fields)
    assert (said["text"], said["size"], said["cut"]) == (text, len(body), False)
    assert said["encoding"] == fields.get("content_encoding", "")
