"""USD text, and packages that hold it."""
