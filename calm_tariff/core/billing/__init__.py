"""Documents of money and what comes after them: numbers, tax, late lines, credit notes, accounts, reminders, collecting
and postings (docs/arithmetic.md, sections 5 to 7). Pure: values in, values out."""
