/** What actions from elsewhere may do with the capture sheet while it is there. */
export interface CaptureHands {
  sheet: { start(): void; browse(): void } | null
}
export const captureHands = (): CaptureHands => ({ sheet: null })
