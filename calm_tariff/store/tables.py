"""Every table, for migrations and for those who need the whole schema."""

from calm_tariff.store import admission, catalogue, invoicing, people, record, tokens, usage
from calm_tariff.store.base import Base

metadata = Base.metadata

__all__ = ["admission", "catalogue", "invoicing", "metadata", "people", "record", "tokens", "usage"]
