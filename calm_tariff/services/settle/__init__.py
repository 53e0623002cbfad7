"""Charges: rating cases, runs, invoices."""
