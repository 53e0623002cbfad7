"""What consumers owe and are owed: entries, payments, reminders, and what is written off."""
