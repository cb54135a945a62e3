"""Proof: what a cut costs to the eye, and which cuts meet a budget at the least cost."""
