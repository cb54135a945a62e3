"""The Proof bench."""
