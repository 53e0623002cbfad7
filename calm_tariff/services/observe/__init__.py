"""What the provider watches: today, traffic, allowances, consumers."""
