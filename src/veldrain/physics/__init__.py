"""The engine: plant, trees, collision, contact, stepping."""
