"""`./calm bench`: measure, and write docs/performance.md."""

from __future__ import annotations

import platform
from pathlib import Path

from bench import books, charge_run, decisions, documents, idle, shared, snapshots, throughput, usage_import

REPORT = Path(__file__).parents[1] / "docs" / "performance.md"


def main() -> None:
    """Run every measurement and report ratios."""
    decided = decisions.measure()
    print(f"decisions: {decided['ratio']:.1f} times the baseline", flush=True)
    forwarded = throughput.measure()
    print(f"gateway: {forwarded['throughput_ratio']:.2f} of the bare forwarder's throughput", flush=True)
    kept = snapshots.measure()
    print(f"snapshot of 100,000 keys: {kept['build_seconds']:.2f} s, {kept['build_ratio']:.1f} dicts", flush=True)
    together = shared.measure()
    print(f"three gateways on Redis: {together['three_ratio']:.2f} times one", flush=True)
    read = documents.measure()
    print(f"documents: {read['yaml']:.1f} times the parsing alone, as YAML", flush=True)
    unasked = idle.measure()
    print(f"nobody calls: {unasked['whole']:.2f}% of a core", flush=True)
    brought = usage_import.measure()
    print(f"usage from elsewhere: {brought['ratio']:.1f} times a bare load of its rows", flush=True)
    charged = charge_run.measure()
    print(f"charge run: {charged['ratio']:.1f} times the bare sums and lines", flush=True)
    audited = books.measure()
    print(f"audit of {audited['calls']:,} calls: {audited['audit']:.0f} s", flush=True)
    REPORT.write_text(
        f"""# Performance

Written by `./calm bench`. Every figure is measured beside a baseline in the same minute, taking turns,
and given as a ratio: absolute times say more about the machine than about the product.
Last run with Python {platform.python_version()}.

| what | beside | aim | measured |
|---|---|---|---|
| decisions, four limits | the `limits` package, in-memory windows, four hits a call | 3 | {decided["ratio"]:.1f} |
| gateway throughput | a bare forwarder on the same packages | 0.75 | {forwarded["throughput_ratio"]:.2f} |
| gateway p99 at half load | the same | 1.5 | {forwarded["half_load_p99_ratio"]:.2f} |
| gateway p99, {throughput.AT_ONCE} callers at once | the same | | {forwarded["p99_ratio"]:.2f} |
| snapshot of 100,000 keys ({kept["build_seconds"]:.2f} s here) | one dict of the keys | | {kept["build_ratio"]:.1f} |
| memory of 10,000 active subscriptions ({kept["megabytes"]:.0f} MB) | the rows alone | | {kept["memory_ratio"]:.2f} |
| one gateway on Redis, throughput | one counting in memory | | {together["redis_ratio"]:.2f} |
| three gateways on Redis, throughput | one on Redis | | {together["three_ratio"]:.2f} |
| reading an OpenAPI document of 1,000 operations, YAML | libyaml parsing it and no more | | {read["yaml"]:.1f} |
| the same, JSON | orjson parsing it and no more | | {read["json"]:.1f} |
| one of 1,221 operations and {read["large_yaml_mb"]:.0f} MB, YAML | the same | | {read["large_yaml"]:.1f} |
| the same, JSON, {read["large_json_mb"]:.0f} MB | the same | | {read["large_json"]:.1f} |
| {brought["rows"]:,} calls of another gateway | LOAD DATA of the same rows | 2 | {brought["ratio"]:.1f} |
| drafting {charge_run.SUBSCRIPTIONS:,} subscriptions ({charged["run"]:.0f} s here) | one GROUP BY of their usage \
and a bulk insert of their lines | 3 | {charged["ratio"]:.1f} |
| `./calm audit` over {audited["calls"]:,} calls ({audited["audit"]:.0f} s here) | reading all calls, without opening \
them | | {audited["ratio"]:.1f} |
| % of a core at which nobody calls, all in | a bare server: {unasked["bare"]:.2f} | 2 | {unasked["whole"]:.2f} |

What the four limits are: a rate per key, a fixed window per application, a rate shared by everyone, and a
monthly quota per subscription. Each decision also yields what is left of every limit, which the baseline
does not.

The gateway is one Python process, so one core bounds it. Load generator, back end, gateway and database
share the cores of one machine in this measurement, and so do three gateways, Redis, back end and load
generator: three gateways cannot do three times the work on two cores, and what is measured is that sharing
counts does not stand in the way of using all of them. A decision on Redis is one round trip of one script.
In a profile about two thirds of a call's time are the HTTP server and client packages'; of ours, metering
and the journal's record cost most, then the decision with its header fields, then finding key and operation.
What a path leads to is kept for the next call there; what a subscription meets is compiled when it first
calls, so that a snapshot of many keys is ready at once.

Calls of another gateway are read twice, once to be seen and once to be recorded. About half of the time the
server loads rows, which is all that it is held against; the rest is reading them, placing them, and the sums.

A charge run reads usage by day, because that is what a line opens into, and keeps beside each line its invoice with the
evidence, its tax and its review. Days come from the sums of UTC days and, where the provider's days are others, from
the few hours that lie on another one: about a seventh of its time. The server inserts for about a third of it, and half
of it rates, writes evidence down and sends both. What it is held against groups by subscription alone and inserts lines
that are ready.

The audit is bound by one statement, which opens what each call counted: about
{audited["opened"] / audited["calls"] * 1e6:.0f} µs of the server for each call. It is one thread of the server's,
however many cores there are.
"""
    )


if __name__ == "__main__":
    main()
