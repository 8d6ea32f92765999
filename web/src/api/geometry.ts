import { ApiError } from '@/api/client'

/** Fetch geometry; rejects with the server's sentence, or with an `AbortError` when it was called off. */
export async function fetchGeometry(url: string, signal: AbortSignal): Promise<ArrayBuffer> {
  const answer = await fetch(url, { signal })
  if (answer.ok) return answer.arrayBuffer()
  const said = (await answer.json().catch(() => null))?.error
  throw new ApiError(said ?? `The server answered ${answer.status}.`, answer.status)
}

/** Does one thing at a time, the newest: what was asked before is called off and its answer never used. */
export class LatestOnly {
  private current: AbortController | null = null

  /**
   * Make something and use it. When something newer was asked for meanwhile, what was made is dropped instead.
   * Resolves to whether it was used.
   */
  async run<T>(
    make: (signal: AbortSignal) => Promise<T>,
    use: (made: T) => void,
    drop: (made: T) => void = () => {},
  ): Promise<boolean> {
    this.stop()
    const mine = (this.current = new AbortController())
    try {
      const made = await make(mine.signal)
      if (mine.signal.aborted) drop(made)
      else use(made)
      return !mine.signal.aborted
    } catch (fault) {
      if (mine.signal.aborted) return false
      throw fault
    }
  }
  stop() {
    this.current?.abort()
    this.current = null
  }
}
