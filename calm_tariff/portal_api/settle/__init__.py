"""Invoices."""
