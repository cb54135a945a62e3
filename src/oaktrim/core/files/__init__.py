"""Bytes on disk to values and back, and writing files whole or not at all."""
