"""The Surface bench."""
