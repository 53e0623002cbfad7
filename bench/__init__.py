"""Speed and memory, each beside a baseline run in the same minute; only ratios mean something."""
