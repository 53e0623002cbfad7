"""Documents of money: drafts, invoices, adjustments, late usage and credit notes, and their files."""
