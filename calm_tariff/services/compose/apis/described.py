"""What the documents of API versions say of their operations, read once and kept in memory by what they say."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from threading import Lock
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from calm_tariff.formats.documents import read_document
from calm_tariff.formats.openapi_examples import ExampleAnswer, TooLarge, example_of
from calm_tariff.formats.openapi_reference import Reference, deprecated, reference_of, words_of
from calm_tariff.store.compose.apis import ApiDocument, Operation

# A document may be 20 MB as text, an example 200 kB.
MOST_DOCUMENTS = 8
MOST_EXAMPLES = 200
MOST_SAID = 10_000
_kept = Lock()
_documents: dict[str, Any] = {}
_examples: dict[tuple[str, str, str], ExampleAnswer | None] = {}


@dataclass(frozen=True, slots=True)
class Said:
    """The words that a document has on an operation, and whether it is to be used no more."""

    words: str
    deprecated: bool


_said: dict[tuple[str, str, str], Said] = {}


def document_of(session: Session, version_id: int) -> tuple[str, Any] | None:
    """The document that a version was imported from, after the digest of its text; None where there is none. It is
    shared: nothing in it may be changed."""
    digest = session.scalar(select(func.md5(ApiDocument.text)).where(ApiDocument.api_version_id == version_id))
    if digest is None:
        return None
    with _kept:
        if digest not in _documents:
            text = session.scalar(select(ApiDocument.text).where(ApiDocument.api_version_id == version_id))
            _make_room(_documents, MOST_DOCUMENTS)
            _documents[digest] = read_document(text or "")
        return digest, _documents[digest]


def example_answer(session: Session, operation: Operation) -> ExampleAnswer | None:
    """The example of an operation's first successful answer; None where its document gives none, or one too large."""
    found = document_of(session, operation.api_version_id)
    if found is None:
        return None
    digest, document = found
    key = (digest, operation.method, operation.path)
    with _kept:
        if key in _examples:
            return _examples[key]
    try:
        example = example_of(document, operation.method, operation.path)
    except TooLarge:
        example = None
    with _kept:
        _make_room(_examples, MOST_EXAMPLES)
        _examples[key] = example
    return example


def reference(session: Session, operation: Operation) -> Reference | None:
    """What the document of an operation's version says of it; None where it says nothing."""
    found = document_of(session, operation.api_version_id)
    return None if found is None else reference_of(found[1], operation.method, operation.path)


def said_of(session: Session, version_id: int, operations: Sequence[Operation]) -> dict[int, Said]:
    """What can be searched of a version's operations, and which are to be used no more, by the operation's id."""
    found = document_of(session, version_id)
    if found is None:
        return {}
    digest, document = found
    said = {}
    for o in operations:
        key = (digest, o.method, o.path)
        with _kept:
            known = _said.get(key)
        if known is None:
            known = Said(words_of(document, o.method, o.path), deprecated(document, o.method, o.path))
            with _kept:
                _make_room(_said, MOST_SAID)
                _said[key] = known
        said[o.id] = known
    return said


def _make_room(kept: dict[Any, Any], most: int) -> None:
    """Let go of what has been kept longest."""
    while len(kept) >= most:
        del kept[next(iter(kept))]
