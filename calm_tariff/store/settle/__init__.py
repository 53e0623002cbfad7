"""What is charged: runs, invoices and their numbers."""
