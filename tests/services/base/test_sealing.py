from __future__ import annotations

import pytest

from calm_tariff.services.base.sealing import Sealed, seal, unseal


def test_what_is_sealed_is_read_with_its_secret_alone_and_says_nothing_of_itself() -> None:
    sealed = seal("a secret of ours", "name:password – geheim")
    assert unseal("a secret of ours", sealed) == "name:password – geheim"
    assert "password" not in sealed
    assert sealed != seal("a secret of ours", "name:password – geheim")  # two of the same cannot be told to be
    with pytest.raises(Sealed):
        unseal("another secret", sealed)


@pytest.mark.parametrize("place", [0, 1, 2])
def test_what_was_touched_cannot_be_opened(place: int) -> None:
    parts = seal("a secret", "text").split(".")
    left = [part for part in parts if part]
    left[place] = ("A" if left[place][0] != "A" else "B") + left[place][1:]
    with pytest.raises(Sealed):
        unseal("a secret", ".".join([left[0], "", *left[1:]]))
    for nonsense in ("", "a.b", "....", "\u00e9" * 40):
        with pytest.raises(Sealed):
            unseal("a secret", nonsense)
