"""From cuts to what ships: recipes with their causes, costs in columns, and totals against the limits."""
