"""What UV sets are like."""
