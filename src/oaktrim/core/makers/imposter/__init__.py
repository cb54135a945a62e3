"""Imposters: small models of cards that stand in for others far away."""
