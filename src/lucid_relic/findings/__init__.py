"""A closer look behind the steps: findings that need the frames and the surface themselves."""
