"""The bookkeeper's journal: what is posted, by month, and under which names."""
