"""Oak Trim weighs game art against platform budgets, cuts it down, proves it and ships it."""

__version__ = "0.1.0"
