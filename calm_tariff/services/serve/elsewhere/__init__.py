"""Usage from elsewhere: calls that other gateways counted, metered and charged as our own (docs/arithmetic.md, section
6)."""
