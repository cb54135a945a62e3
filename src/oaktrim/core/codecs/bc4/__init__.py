"""BC4 and BC5."""
