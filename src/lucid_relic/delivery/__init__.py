"""Delivery: an object as its receiver needs it: files, checked, reduced and named for whoever opens them next."""
