"""The demo scenario: the made-up Larkmouth Tide Office with sixty days of history."""
