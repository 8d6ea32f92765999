"""Taking away what does not belong to the object."""
