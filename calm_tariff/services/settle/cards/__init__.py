"""Collecting by card: attempts, what came of them, refunds to cards, and disputes."""
