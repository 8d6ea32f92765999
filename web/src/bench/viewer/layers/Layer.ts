import type * as THREE from 'three'

export type ViewMode = 'colour' | 'shape' | 'passes' | 'made-up' | 'coverage' | 'shift' | 'slice'

/** Whether the points of the passes are what a mode shows. */
export const showsPoints = (mode: ViewMode) => ['passes', 'shift', 'slice'].includes(mode)

/** How things are drawn. */
export interface ViewStyle {
  mode: ViewMode
  textured: boolean
  wireframe: boolean
  /** What the head sees before a pass stands in the view, in place of the object. */
  looking: boolean
  /** Two takes stand in the view in place of the surface. */
  comparing?: boolean
  /** The points of the passes are laid over the surface. */
  over?: boolean
}

/** A place of the object under the pointer, with what is known of it. */
export interface Place {
  place: [number, number, number]
  normal: [number, number, number] | null
  /** Which pass, frame and pixel measured it, where points tell. */
  pass: number | null
  frame: number | null
  pixel: number | null
}

/** A ray of sight with the size of a pixel at the distance of one millimetre. */
export interface Sight {
  ray: THREE.Ray
  pixel: number
}

/** Something that is drawn: it owns its objects on the graphics card and frees them. */
export interface Layer {
  readonly object: THREE.Object3D
  /** Bring what is drawn in line with the style; `covered` says that a surface stands where points would. */
  style?(style: ViewStyle, covered: boolean): void
  /** The nearest place that a ray meets, with its distance. */
  pick?(sight: Sight): (Place & { distance: number }) | null
  /** What the layer adds to the extent of the scene. */
  measure?(box: THREE.Box3): void
  /** Called before every drawing. */
  before?(camera: THREE.PerspectiveCamera, height: number, moving: boolean): void
  dispose(): void
}
