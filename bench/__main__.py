"""`./calm bench`: measure, and write docs/performance.md."""

from __future__ import annotations

import platform
from pathlib import Path

from bench import decisions, documents, throughput

REPORT = Path(__file__).parents[1] / "docs" / "performance.md"


def main() -> None:
    """Run every measurement and report ratios."""
    decided = decisions.measure()
    print(f"decisions: {decided['ratio']:.1f} times the baseline", flush=True)
    forwarded = throughput.measure()
    print(f"gateway: {forwarded['throughput_ratio']:.2f} of the bare forwarder's throughput", flush=True)
    read = documents.measure()
    print(f"documents: {read['yaml']:.1f} times the parsing alone, as YAML", flush=True)
    REPORT.write_text(
        f"""# Performance

Written by `./calm bench`. Every figure is measured beside a baseline in the same minute, taking turns,
and given as a ratio: absolute times say more about the machine than about the product.
Last run with Python {platform.python_version()}.

| what | beside | aim | measured |
|---|---|---|---|
| decisions, four limits | the `limits` package, in-memory windows, four hits a call | 3 | {decided["ratio"]:.1f} |
| gateway throughput | a bare forwarder on the same packages | 0.70 | {forwarded["throughput_ratio"]:.2f} |
| gateway p99, {throughput.AT_ONCE} callers at once | the same | | {forwarded["p99_ratio"]:.2f} |
| reading an OpenAPI document of 1,000 operations, YAML | libyaml parsing it and no more | | {read["yaml"]:.1f} |
| the same, JSON | orjson parsing it and no more | | {read["json"]:.1f} |

What the four limits are: a rate per key, a fixed window per application, a rate shared by everyone, and a
monthly quota per subscription. Each decision also yields what is left of every limit, which the baseline
does not.

The gateway is one Python process, so one core bounds it. Load generator, back end, gateway and database
share the cores of one machine in this measurement. In a profile about seven tenths of a call's time are the
HTTP server and client packages'; of ours, metering and the journal's record cost most, then finding key and
operation, then the decision with its header fields.
"""
    )


if __name__ == "__main__":
    main()
