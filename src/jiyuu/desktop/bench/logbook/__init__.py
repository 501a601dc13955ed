"""The Logbook step."""
