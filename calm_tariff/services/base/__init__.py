"""What every service builds on: who acts and when, the record, letters, idempotency, stamps."""
