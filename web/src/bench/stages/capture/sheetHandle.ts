/** The sheets of the stage while they are there, for actions from elsewhere. */
export interface SheetHandle {
  sheet: { start(): void } | null
  arrivals: { browse(): void; take(files: File[]): void } | null
}
export const sheetHandle = (): SheetHandle => ({ sheet: null, arrivals: null })
