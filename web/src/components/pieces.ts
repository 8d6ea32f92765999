/** A piece of the joint cloud, as a preview tells of it. */
export interface PieceFigures {
  points: number
  area_cm2: number
  at: [number, number, number]
  stays: boolean
}
