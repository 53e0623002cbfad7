"""The books: postings, the journal, and their proof."""
