"""What light means: the sRGB transfer function and light on a logarithmic scale."""
