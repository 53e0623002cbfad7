"""Receipts."""
