"""What tests share: outside judges, made-up pictures and trees."""
