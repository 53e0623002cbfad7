"""What a bank says, and what it pays."""
