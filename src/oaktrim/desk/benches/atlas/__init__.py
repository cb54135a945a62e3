"""The Atlas bench."""
