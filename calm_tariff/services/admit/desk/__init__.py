"""The desk: asking for a plan, talking about it, and deciding, here or outside."""
