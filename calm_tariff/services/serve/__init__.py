"""What gateways need and record: the feed, shipping, receipts, the bench."""
