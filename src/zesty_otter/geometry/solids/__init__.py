"""What is solid: hulls, fitted shapes, convex parts, insets, and where feet stand."""
