"""Devices: the protocol a scanner driver speaks, and the virtual scanner that stands in for one."""
