"""What a hand marked, found again on points, on the pixels of frames and on triangles."""
