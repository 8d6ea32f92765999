import createClient from 'openapi-fetch'
import type { components, paths } from '@/api/schema'

export type Bench = components['schemas']['Bench']
export type ShelfItem = components['schemas']['ShelfItem']
/** What the first stops of a pass promise: shares of the surface that it, and the best way, will see. */
export interface Outlook {
  seen: number
  best: string
  best_seen: number
}
export type JobView = components['schemas']['JobView'] & { outlook?: Outlook | null }
export type NamedSetUp = components['schemas']['NamedSetUpView']
export type HeldPass = components['schemas']['HeldPass']
export type StandView = components['schemas']['StandView']
export type CheckView = components['schemas']['CheckView']
export type Finding = components['schemas']['FindingView']
export type AcceptedFinding = components['schemas']['AcceptedView']
export type BranchView = components['schemas']['BranchView']
export type RecipeView = components['schemas']['RecipeView']
export type RecipeStep = components['schemas']['RecipeStepView']
export type JudgedStep = components['schemas']['JudgedStep']
export type DrawnStep = components['schemas']['DrawnStep']
export type LogLine = components['schemas']['LogLine']
export type StepView = components['schemas']['StepView']
export type StageView = components['schemas']['Stage']
export type PassFigures = components['schemas']['PassFigures']
export type MeshFigures = components['schemas']['MeshFigures']
export type OperationView = components['schemas']['OperationView']
export type ParameterView = components['schemas']['ParameterView']
export type FormatView = components['schemas']['FormatView']
export type ReceiverView = components['schemas']['ReceiverView']
export type Wish = components['schemas']['WishRequest']
export type Arrivals = components['schemas']['ArrivalsRequest']
export type CapturePlan = components['schemas']['CapturePlanRequest']
export type InstrumentView = components['schemas']['InstrumentView']
export type UploadView = components['schemas']['UploadView']
export type Sharing = components['schemas']['Sharing']
export type Catalogue = components['schemas']['Catalogue']
export type StageName = StageView['name']

/** An answer of the server that says no, with its sentence. */
export class ApiError extends Error {
  constructor(
    message: string,
    readonly status: number,
  ) {
    super(message)
  }
}

export function csrfToken(): string {
  return /(?:^|; )csrftoken=([^;]+)/.exec(document.cookie)?.[1] ?? ''
}

export const api = createClient<paths>({ baseUrl: '', credentials: 'same-origin' })
api.use({
  onRequest({ request }) {
    if (request.method !== 'GET') request.headers.set('X-CSRFToken', csrfToken())
    return request
  },
})

type Answer<T> = { data?: T; error?: unknown; response: Response }

/** The data of an answer, or an `ApiError` with the server's sentence. */
export async function ask<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>
  try {
    answer = await call
  } catch {
    throw new ApiError('The server does not answer. Your work is safe there; try again in a moment.', 0)
  }
  if (answer.response.ok) return answer.data as T
  const said = (answer.error as { error?: string } | undefined)?.error
  throw new ApiError(said ?? `The server answered ${answer.response.status}.`, answer.response.status)
}
