import * as THREE from 'three'

/** A motion (4 × 4, row by row) as three has it. */
export const matrixOf = (rows: number[][]): THREE.Matrix4 =>
  new THREE.Matrix4().set(...(rows.flat() as Parameters<THREE.Matrix4['set']>))

/** Row by row, as steps have it. */
export const rowsOf = (matrix: THREE.Matrix4): number[][] => {
  const flat = matrix.clone().transpose().elements
  return [0, 4, 8, 12].map((k) => Array.from(flat.slice(k, k + 4)))
}

/** The motion of the object's frame that takes what lies by one motion to where it lies by another. */
export const between = (now: number[][], then: number[][]): THREE.Matrix4 =>
  matrixOf(then).multiply(matrixOf(now).invert())
