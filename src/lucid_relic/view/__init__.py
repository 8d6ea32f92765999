"""What the viewer gets: points that know where they come from, meshes, pictures, previews, all light to send."""
