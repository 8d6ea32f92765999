/** The capture sheet while it is there, for actions from elsewhere. */
export interface SheetHandle {
  sheet: { start(): void; browse(): void } | null
}
export const sheetHandle = (): SheetHandle => ({ sheet: null })
