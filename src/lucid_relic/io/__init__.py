"""Every file format the core reads and writes; nothing else in the core touches files."""
