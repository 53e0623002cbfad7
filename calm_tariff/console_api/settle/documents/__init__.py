"""Invoices, what corrects them, their files, and exports of them."""
