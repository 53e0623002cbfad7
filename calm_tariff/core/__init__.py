"""The computation: money, periods, limits, meters, rating and life cycles.

Nothing here does I/O, knows a framework or reads a clock; instants, ids and randomness are passed in.
"""
