"""Documents of money: billing months, charge runs, invoices, adjustments, late usage and credit notes."""
