"""Periods, charge runs and invoices."""
