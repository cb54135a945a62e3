"""Qt item models over core's values."""
