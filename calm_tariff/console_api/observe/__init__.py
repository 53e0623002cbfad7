"""Today, traffic, allowances, consumers."""
