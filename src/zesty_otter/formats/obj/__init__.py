"""OBJ geometry with MTL materials."""
