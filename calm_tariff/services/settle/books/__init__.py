"""The books: that what was recorded, counted, charged and booked agrees, and what does not, down to the call."""
