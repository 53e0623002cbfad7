"""What is charged: documents of money, their numbers, lines, taxes and corrections."""
