"""What people and processes do with the product. Transactions begin and end here."""
