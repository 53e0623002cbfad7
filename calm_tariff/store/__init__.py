"""SQLAlchemy tables, queries, bulk writers and migrations. Nothing else says SQL.

Whoever imports a part of it has every table: rows refer to each other by the tables' names.
"""

from calm_tariff.store import tables as tables
