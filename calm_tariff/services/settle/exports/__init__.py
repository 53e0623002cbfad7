"""What is charged as files for other programs: lines, cost and usage rows, and a period's documents in one archive."""
