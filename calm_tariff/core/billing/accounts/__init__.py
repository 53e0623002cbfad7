"""What is owed and how it is paid: accounts, reminders, cards."""
