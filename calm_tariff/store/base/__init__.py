"""What every place builds on: column types, the engine, pages, the record."""
