"""The window around the benches."""
