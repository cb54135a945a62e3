"""What a GPU can hold, and the bytes it takes."""
