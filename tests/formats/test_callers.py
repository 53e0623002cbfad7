from __future__ import annotations

import pytest

from calm_tariff.formats.callers import Asked, LiveCaller, read, written


def test_callers_are_read_as_they_were_written() -> None:
    callers = (
        LiveCaller("lt_live_a", 270.0, (Asked("GET", ("/tides/v1/stations", "/tides/v1/stations/lm-01"), 2),)),
        LiveCaller("lt_live_b", 0.5, (Asked("POST", ("/berths/v1/holds",), 1), Asked("GET", ("/x",), 9))),
    )
    assert read(written(callers)) == callers


@pytest.mark.parametrize("content", [b"", b"[", b'[{"key": "k"}]', b'[{"key": "k", "daily": "often", "asks": []}]'])
def test_a_file_that_is_none_of_callers_is_refused(content: bytes) -> None:
    with pytest.raises(ValueError, match="validation error"):
        read(content)
