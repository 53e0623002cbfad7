"""What is kept of a call, on local disk first."""
