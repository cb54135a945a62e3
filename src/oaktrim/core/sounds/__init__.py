"""Sounds: reading, measuring, bringing down, encoding and comparing them."""
