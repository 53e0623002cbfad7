"""Allowances and calls."""
