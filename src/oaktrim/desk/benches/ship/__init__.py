"""The Ship bench."""
