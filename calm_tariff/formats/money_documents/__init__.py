"""Documents of money as files: on paper (PDF), and for other programs (UBL, CII, CSV, FOCUS)."""
