"""Calm Tariff: API plans, the limits they promise, and the charges they cause."""

__version__ = "0.1.0"
