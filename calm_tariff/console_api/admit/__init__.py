"""The desk, consumers' groups and overrides, and what reaches subscribers."""
