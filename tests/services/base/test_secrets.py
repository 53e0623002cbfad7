from __future__ import annotations

import pytest

from calm_tariff.core.errors import Invalid
from calm_tariff.services.base import secrets
from calm_tariff.services.base.secrets import LONGEST, hash_password, hash_token, password_matches


def test_a_password_is_known_again_by_its_hash_and_no_other_is() -> None:
    kept = hash_password("ten letters or so")
    assert kept.startswith("$argon2id$") and "ten letters" not in kept
    assert password_matches(kept, "ten letters or so")
    assert not password_matches(kept, "ten letters or sO")
    assert kept != hash_password("ten letters or so")  # salted


@pytest.mark.parametrize("password", ["", "ninechars", "x" * (LONGEST + 1)])
def test_a_password_too_short_or_too_long_is_refused(password: str) -> None:
    with pytest.raises(Invalid) as refused:
        hash_password(password)
    assert refused.value.where == "password"


def test_who_has_no_account_is_asked_as_much_work_as_who_has(monkeypatch: pytest.MonkeyPatch) -> None:
    asked: list[str] = []

    class Hasher:
        def verify(self, stored: str, password: str) -> bool:
            asked.append(stored)
            return True

    monkeypatch.setattr(secrets, "_passwords", Hasher())
    assert not password_matches(None, "a long password")  # even where it were the right one for nobody
    assert len(asked) == 1 and asked[0].startswith("$argon2id$v=19$m=19456,t=2,p=1$")


def test_what_is_no_hash_or_is_asked_with_far_too_much_matches_nothing() -> None:
    assert not password_matches("no hash", "a long password")
    assert not password_matches(hash_password("a long password"), "a long password" * LONGEST)
    assert len(hash_token("cts_x")) == 64 and hash_token("cts_x") != hash_token("cts_y")


@pytest.mark.parametrize(
    "password",
    [
        "manchester",
        "Password123",
        "1234567890",
        "sunshine2026!",
        "12/Dragon/34",
        "aaaaaaaaaaa",
        "tidetidetide",
        "QwertyUIOP",
    ],
)
def test_a_password_that_is_tried_first_is_refused(password: str) -> None:
    with pytest.raises(Invalid, match="tried first") as refused:
        hash_password(password)
    assert refused.value.where == "password"


@pytest.mark.parametrize(
    "password", ["sunshine over manchester", "larkmouth-demo", "dragonfly harbour", "Grüße, Kapitän"]
)
def test_words_that_are_common_one_by_one_are_good_together(password: str) -> None:
    assert password_matches(hash_password(password), password)
