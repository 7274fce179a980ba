"""Arrays in, arrays out. Knows no scene, no file and no setting object."""
