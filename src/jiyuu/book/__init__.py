"""The record: one SQLite file with filters, runs, findings and notes."""
