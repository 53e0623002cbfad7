"""What limits count by."""

from __future__ import annotations

from calm_tariff.gateway.verdict.counted import veiled


def test_a_value_counted_by_is_kept_so_that_it_cannot_be_read() -> None:
    one, other = veiled("station-larkmouth", b"secret"), veiled("station-saltgrave", b"secret")
    assert one.startswith("stat…") and one != other and "larkmouth" not in one
    assert veiled("station-larkmouth", b"another secret") != one
    assert "lm-1" not in veiled("lm-1", b"secret")  # of a short one not even the beginning
    assert veiled("lm-1", b"secret") == veiled("lm-1", b"secret")
    assert veiled("\ud800 half a character", b"secret").startswith("? ha…")  # and it can be recorded
