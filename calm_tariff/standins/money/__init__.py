"""Who takes money and who bills outside: a bank, a payment processor, billing that is done elsewhere."""
