"""From posed depth frames to a surface: sparse signed distance field, closing, polygonising."""
