"""What a gateway counts about itself, for its health and metrics."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, field

from calm_tariff.gateway.recording.records import refused_by
from calm_tariff.gateway.verdict.calls import Judged, Verdict

# Upper bounds in µs of what a call took, for a histogram; the last one takes the rest.
BOUNDS = (1_000, 2_500, 5_000, 10_000, 25_000, 50_000, 100_000, 250_000, 500_000, 1_000_000, 2_500_000, 10_000_000)


@dataclass(slots=True)
class Tally:
    """Since the gateway's start: calls by (verdict, status), refusals by reason, decisions by duration."""

    calls: Counter[tuple[str, int]] = field(default_factory=Counter)
    refusals: Counter[str] = field(default_factory=Counter)
    deciding: list[int] = field(default_factory=lambda: [0] * (len(BOUNDS) + 1))
    deciding_us: int = 0
    in_flight: int = 0

    def count(self, verdict: Verdict, status: int) -> None:
        """Count a call that was answered so."""
        judged = verdict if isinstance(verdict, Judged) else None
        self.calls[judged.decided.decision.verdict if judged else "refused", status] += 1
        by = refused_by(verdict)
        if by:
            self.refusals[by] += 1
        if judged:
            self.deciding_us += judged.took_us
            place = 0
            while place < len(BOUNDS) and judged.took_us > BOUNDS[place]:
                place += 1
            self.deciding[place] += 1
