"""BC6H, unsigned and signed."""
