import type * as THREE from 'three'
import type { Place, Sight } from '@/bench/viewer/layers/Layer'
import type { ScreenLines } from '@/bench/viewer/layers/ScreenLines'
import type { StrokeView } from '@/lib/strokes'

/** A pointer over the view, in pixels of the view. */
export interface Pointer {
  x: number
  y: number
  shift: boolean
}

/** A view as steps keep it. */
export type ViewJson = StrokeView

/** What a tool may ask of the view. */
export interface ToolView {
  readonly camera: THREE.PerspectiveCamera
  readonly lines: ScreenLines
  sight(x: number, y: number): Sight
  project(place: THREE.Vector3): [number, number]
  /** The nearest place of what is drawn under a pixel, with its distance from the eye. */
  pick(x: number, y: number): (Place & { distance: number }) | null
  asJson(): ViewJson
  ask(): void
}

/** A hand in the view. While it is on, it owns the drags that it takes; all others turn and shift the view. */
export interface Tool {
  /** The pointer's shape over the view. */
  readonly cursor: string
  /** Whether it takes every drag of the left button; turning is then at the right button or with Space. */
  readonly takesAll: boolean
  /** Whether it acts where the button goes down, so that a key is a whole click. */
  readonly clicks?: boolean
  /** The left button goes down; true takes the drag. */
  down?(at: Pointer): boolean
  move?(at: Pointer): void
  up?(at: Pointer): void
  /** The pointer moves with no button down. */
  hover?(at: Pointer): void
  dispose(): void
}
/** A tool on a view. */
export type MakeTool = (view: ToolView) => Tool
