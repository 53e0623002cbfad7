"""Bringing consumers and what is theirs in from CSV files: checked whole, then made row by row."""
