"""Running a plan: making each texture, writing it whole, reading it back, and weighing the result."""
