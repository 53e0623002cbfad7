"""The tariff sheet: plans side by side, and what becomes of their drafts."""
