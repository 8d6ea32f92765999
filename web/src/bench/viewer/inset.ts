import type * as THREE from 'three'

/** Where a small picture stands in the view, in pixels from its right and upper edge. */
export const INSET = { right: 14, top: 108, width: 168, height: 124 }

/** Draw a small picture over what was drawn in a view so wide and high. */
export function drawInset(
  renderer: THREE.WebGLRenderer,
  [width, height]: [number, number],
  draw: () => void,
) {
  const box = [
    width - INSET.right - INSET.width,
    height - INSET.top - INSET.height,
    INSET.width,
    INSET.height,
  ] as const
  renderer.setScissorTest(true)
  renderer.setScissor(...box)
  renderer.setViewport(...box)
  draw()
  renderer.setScissorTest(false)
  renderer.setViewport(0, 0, width, height)
}
