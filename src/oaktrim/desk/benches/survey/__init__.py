"""The Survey bench."""
