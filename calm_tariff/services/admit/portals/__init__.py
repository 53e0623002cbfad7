"""The portals: how each looks, what it shows to whom, and who is invited there."""
