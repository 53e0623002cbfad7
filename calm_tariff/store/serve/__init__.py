"""What gateways record, and the processes that run."""
