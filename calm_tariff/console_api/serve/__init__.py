"""The bench, receipts, and the processes that run."""
