import { api, ApiError, ask, csrfToken, type Arrivals, type JobView, type UploadView } from '@/api/client'

/** How far sending some files is: the file under way, bytes of all, and seconds left when they are known. */
export interface Sending {
  name: string
  number: number
  files: number
  sent: number
  bytes: number
  secondsLeft: number | null
}
/** What a person says of files that do not say it themselves. */
export type Said = Omit<Arrivals, 'uploads'>

const TRIES = 6 // of a piece, when the connection breaks
const PAUSE_MS = 700 // before the second try; twice as long before each that follows

/**
 * Sends files in pieces and has passes made of them; resolves with the job that does it. What breaks off goes on where it
 * was, now or when the same file is sent again. Rejects with a sentence, or with an `AbortError` when it was stopped.
 */
export async function bringIn(
  objectId: string,
  files: File[],
  said: Said,
  tell: (now: Sending) => void,
  signal: AbortSignal,
): Promise<JobView> {
  const bytes = files.reduce((sum, f) => sum + f.size, 0)
  const began = performance.now()
  const path = { object_id: objectId }
  const ids: string[] = []
  const names = ownNames(files.map((f) => f.name))
  let before = 0
  let kept = 0
  for (const [n, file] of files.entries()) {
    const body = { name: names[n], bytes: file.size, stamp: String(file.lastModified) }
    if (!file.size) throw new ApiError(`${file.name}: this file is empty.`, 400)
    const upload = await ask(api.POST('/api/objects/{object_id}/uploads', { params: { path }, body, signal }))
    kept += upload.received
    await sendRest(upload, file, signal, (received) => {
      const sent = before + received
      const seconds = (performance.now() - began) / 1000
      const fresh = sent - kept
      const secondsLeft = fresh > 0 && seconds > 1 ? ((bytes - sent) * seconds) / fresh : null
      tell({ name: file.name, number: n + 1, files: files.length, sent, bytes, secondsLeft })
    })
    before += file.size
    ids.push(upload.id)
  }
  signal.throwIfAborted()
  return ask(
    api.POST('/api/objects/{object_id}/arrivals', {
      params: { path },
      body: { ...said, uploads: ids },
      signal,
    }),
  )
}

/** Names of files that are sent together, no two the same: two folders may hold a file of one name. */
export function ownNames(names: string[]): string[] {
  const taken = new Set<string>()
  return names.map((name) => {
    const [, stem, suffix] = /^(.*?)(\.[^.]*)?$/s.exec(name)!
    let own = name
    for (let k = 2; taken.has(own); k++) own = `${stem} ${k}${suffix ?? ''}`
    taken.add(own)
    return own
  })
}

async function sendRest(
  upload: UploadView,
  file: File,
  signal: AbortSignal,
  tell: (received: number) => void,
): Promise<void> {
  let at = upload.received
  tell(at)
  for (let broken = 0; at < file.size;) {
    try {
      at = await sendPiece(upload.id, at, file.slice(at, at + upload.piece_bytes), signal)
      broken = 0
    } catch (error) {
      if (signal.aborted || (error instanceof ApiError && ![0, 409].includes(error.status))) throw error
      if (++broken === TRIES) throw error
      await new Promise((resolve) => setTimeout(resolve, PAUSE_MS * 2 ** (broken - 1)))
      at = await receivedOf(upload.id, signal).catch(() => at)
    }
    tell(at)
  }
}

async function sendPiece(id: string, at: number, piece: Blob, signal: AbortSignal): Promise<number> {
  let answer: Response
  try {
    answer = await fetch(`/api/uploads/${id}?at=${at}`, {
      method: 'PUT',
      body: piece,
      signal,
      headers: { 'Content-Type': 'application/octet-stream', 'X-CSRFToken': csrfToken() },
    })
  } catch (error) {
    if (signal.aborted) throw error
    throw new ApiError('The upload broke off. What has come is kept: send the file again to go on.', 0)
  }
  const told = await answer.json().catch(() => ({}))
  if (!answer.ok) throw new ApiError(told.error ?? `The server answered ${answer.status}.`, answer.status)
  return (told as UploadView).received
}

async function receivedOf(id: string, signal: AbortSignal): Promise<number> {
  const there = await ask(
    api.GET('/api/uploads/{upload_id}', { params: { path: { upload_id: id } }, signal }),
  )
  return there.received
}
