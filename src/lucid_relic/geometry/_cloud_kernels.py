"""Compiled loops over point sets that came without frames."""

from numba import njit

from lucid_relic.geometry._kernels import project


@njit(cache=True)
def turn_along(order, parent, normals):
    """Turn normals (n, 3), in the order of a tree from its root, so that each faces the way its parent does."""
    for k in range(1, len(order)):
        i, j = order[k], parent[order[k]]
        if normals[i, 0] * normals[j, 0] + normals[i, 1] * normals[j, 1] + normals[i, 2] * normals[j, 2] < 0:
            normals[i, 0], normals[i, 1], normals[i, 2] = -normals[i, 0], -normals[i, 1], -normals[i, 2]


@njit(cache=True)
def nearest_depths(points, cam, depth):
    """Lower depth (h, w) to the nearest of the points (n, 3), in the camera's frame, that fall on each pixel."""
    for k in range(len(points)):
        x, y, z = points[k, 0], points[k, 1], points[k, 2]
        if z <= 0:
            continue
        u, v = project(cam, x, y, z)
        i, j = int(v + 0.5), int(u + 0.5)
        if 0 <= i < depth.shape[0] and 0 <= j < depth.shape[1] and (depth[i, j] == 0 or z < depth[i, j]):
            depth[i, j] = z
