"""Billing months: what they come to, charge runs, and the review of their drafts."""
