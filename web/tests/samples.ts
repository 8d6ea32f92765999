import type { JobView } from '@/api/client'

/** A recipe under way, but for what is changed. */
export const job = (more: Partial<JobView> = {}): JobView =>
  ({
    id: 'j1',
    object_id: 'o1',
    object_title: 'Keel bolt',
    kind: 'recipe',
    title: 'Print recipe',
    state: 'running',
    fraction: 0.1,
    message: 'Placing frames',
    step: 0,
    steps: 0,
    seconds_left: 30,
    error: '',
    repeatable: false,
    stopping: false,
    created: '2026-03-02T10:00:00Z',
    started: '2026-03-02T10:00:05Z',
    finished: null,
    changed: '2026-03-02T10:00:05Z',
    ...more,
  }) as unknown as JobView
