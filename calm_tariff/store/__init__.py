"""SQLAlchemy tables, queries, bulk writers and migrations. Nothing else says SQL."""
