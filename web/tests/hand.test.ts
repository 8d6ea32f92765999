import { mount } from '@vue/test-utils'
import * as THREE from 'three'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { LiveLink, type Preview } from '@/api/live'
import { movesOf, movesOfDrag, movesOfPad, type HandFigures } from '@/bench/stages/capture/hand/hand'
import HandPass from '@/bench/stages/capture/hand/HandPass.vue'
import { soundOf, urgency } from '@/bench/stages/capture/hand/sounds'
import { LiveModel } from '@/bench/viewer/layers/LiveModel'
import PassTracks from '@/components/PassTracks.vue'
import { pack } from './packed'
import { job } from './samples'

const figures = (more: Partial<HandFigures> = {}) =>
  ({
    frames: 40,
    state: 'held',
    line: 'Lower it by 60 mm',
    counts: { in: 38, lost: 2, found: 1 },
    slips: [],
    enough: 0.71,
    enough_reached: false,
    nexts: [
      { words: 'Lower it by 60 mm', gain: 0.06, common: 0.44 },
      { words: 'Go round to the left by 90°', gain: 0.04, common: 0.5 },
    ],
    last_turn: 0.008,
    adds_nothing: true,
    distance_mm: 318,
    slot_mm: [240, 760],
    pace: 0.2,
    sweep: '',
    ...more,
  }) as HandFigures

describe('steering', () => {
  it('goes round and up with the arrows, nearer and with the tray with Shift, and shifts the aim with Alt', () => {
    expect(movesOf('ArrowRight', false, false)).toEqual({ around_deg: 4 })
    expect(movesOf('ArrowUp', false, false)).toEqual({ up_deg: 4 })
    expect(movesOf('ArrowUp', true, false)).toEqual({ away_mm: -12 })
    expect(movesOf('ArrowLeft', true, false)).toEqual({ table_deg: -4 })
    expect(movesOf('ArrowDown', false, true)).toEqual({ above_mm: -12 })
    expect(movesOf('a', false, false)).toBeNull()
  })
  it('follows a drag, and the sticks of a gamepad outside of their middle', () => {
    expect(movesOfDrag(8, -4)).toEqual({ around_deg: -2, up_deg: -1 })
    expect(movesOfPad([0.1, -0.05, 0, 0.1])).toBeNull()
    expect(movesOfPad([1, 0, 0, -0.5])).toEqual({ around_deg: 2.5, away_mm: -4 })
  })
})

describe('what is heard', () => {
  it('is a loss, a find, and that it is enough, once each', () => {
    const lost = figures({ state: 'lost' })
    expect(soundOf(lost, figures())).toBe('fall')
    expect(soundOf(lost, lost)).toBeNull()
    expect(soundOf(figures(), lost)).toBe('rise')
    expect(soundOf(figures({ enough_reached: true }), figures())).toBe('rise')
    expect(soundOf(figures(), undefined)).toBeNull()
  })
  it('ticks the more the farther it is from the slot or from the pace', () => {
    expect(urgency(figures())).toBe(0)
    const near = urgency(figures({ distance_mm: 262 }))
    expect(near).toBeGreaterThan(0)
    expect(urgency(figures({ distance_mm: 242 }))).toBeGreaterThan(near)
    expect(urgency(figures({ pace: 0.8 }))).toBeCloseTo(0.5)
    expect(urgency(figures({ distance_mm: null }))).toBe(0)
  })
})

describe('the sheet of a pass by hand', () => {
  const running = job({ kind: 'capture', by_hand: true, frames: 40, paused: false, waiting: '' } as never)
  const props = { job: running, figures: figures(), loud: true }

  it('says how much is enough, what adds most, and that more turns add nothing', () => {
    const text = mount(HandPass, { props }).text()
    expect(text).toContain('71')
    expect(text).toContain('Lower it by 60 mm. Adds about 6')
    expect(text).toContain('then go round to the left by 90°')
    expect(text).toContain('More turns at this height add nothing.')
    expect(text).toContain('2, 1')
  })
  it('takes the next move, covers the lens, and says where it slipped', async () => {
    const sheet = mount(HandPass, { props: { ...props, figures: figures({ slips: [[12, 14]] }) } })
    await sheet.get('[data-test=take-next]').trigger('click')
    await sheet.get('[data-test=cover-lens]').setValue(true)
    await sheet.get('[data-test=hand-sounds]').setValue(false)
    expect(sheet.emitted('next')).toHaveLength(1)
    expect(sheet.emitted('cover')).toEqual([[true]])
    expect(sheet.emitted('loud')).toEqual([[false]])
    expect(sheet.text()).toContain('slipped at frame 13')
  })
  const live = {
    title: 'by hand',
    frames: 100,
    planned: 100,
    runs: [
      [0, 49],
      [60, 99],
    ] as [number, number][],
    out: [[50, 55]] as [number, number][],
  }
  it('stands with its runs on the track, where a place is marked to step back to', async () => {
    const tracks = mount(PassTracks, { props: { passes: [], live, hidden: [] } })
    const track = tracks.get('[data-test=hand-track]')
    expect(track.findAll('i').map((i) => (i.element as HTMLElement).style.left)).toEqual(['0%', '60%', '50%'])
    vi.spyOn(track.element, 'getBoundingClientRect').mockReturnValue({ left: 100, width: 200 } as DOMRect)
    await track.trigger('pointerdown', { clientX: 150 })
    expect(tracks.emitted('back')).toBeUndefined()
    await tracks.get('[data-test=track-back]').trigger('click')
    expect(tracks.emitted('back')).toEqual([[25]])
    expect(tracks.find('[data-test=track-acts]').exists()).toBe(false)
  })
  it('takes a range out and brings back what was taken out, by pointer and by keys', async () => {
    const tracks = mount(PassTracks, { props: { passes: [], live, hidden: [] } })
    const track = tracks.get('[data-test=hand-track]')
    vi.spyOn(track.element, 'getBoundingClientRect').mockReturnValue({ left: 0, width: 100 } as DOMRect)
    await track.trigger('pointerdown', { clientX: 30 })
    await track.trigger('pointermove', { clientX: 20, buttons: 1 })
    expect(tracks.get('[data-test=track-acts]').text()).toContain('Frames 21 to 31')
    expect(tracks.find('[data-test=track-bring]').exists()).toBe(false)
    const steered = vi.fn()
    window.addEventListener('keydown', steered)
    await track.trigger('keydown', { key: 'Delete' })
    expect(tracks.emitted('drop')).toEqual([[20, 30]])
    await track.trigger('pointerdown', { clientX: 52 })
    await track.trigger('keydown', { key: 'ArrowRight', shiftKey: true })
    expect(tracks.get('[data-test=track-acts]').text()).toContain('Frames 53 to 54')
    await track.trigger('keydown', { key: 'Escape' })
    await track.trigger('keydown', { key: 'ArrowLeft' })
    expect(tracks.get('[data-test=track-acts]').text()).toContain('Frame 99')
    expect(steered).not.toHaveBeenCalled()
    await track.trigger('pointerdown', { clientX: 52 })
    await tracks.get('[data-test=track-bring]').trigger('click')
    expect(tracks.emitted('bring')).toEqual([[52, 52]])
    window.removeEventListener('keydown', steered)
  })
})

describe('the growing model', () => {
  const data = {
    vertices: new Float32Array([0, 0, 0, 10, 0, 0, 0, 10, 0]),
    faces: new Uint32Array([0, 1, 2]),
    colours: new Uint8Array([255, 0, 0, 255, 0, 0, 255, 0, 0]),
    level: new Uint8Array([0, 255, 255]),
  }
  const look = { textured: true, wireframe: false, looking: false }
  const colour = (model: LiveModel) => {
    const mesh = model.object.children[0].children[0] as THREE.Mesh
    return [...(mesh.geometry.getAttribute('color').array as Float32Array)]
      .slice(0, 3)
      .map((c) => +c.toFixed(2))
  }
  it('shows its own colours, its shape, or how well it was seen', () => {
    const model = new LiveModel()
    model.style({ ...look, mode: 'coverage' })
    model.setModel(data, ['#ffffff', '#000000'])
    expect(colour(model)).toEqual([1, 1, 1])
    model.style({ ...look, mode: 'colour' })
    expect(colour(model)).toEqual([1, 0, 0])
    expect(model.size).toBeCloseTo(Math.hypot(10, 10))
    model.clear()
    expect(model.empty).toBe(true)
  })
  it('marks what is seen, the head and the next place, and nothing of a head that is lost', () => {
    const model = new LiveModel()
    const head = new Float32Array(new THREE.Matrix4().setPosition(0, 0, -300).transpose().elements)
    const inks = { line: '#000000', next: '#008800' }
    const outline = new Float32Array([0, 0, 0, 1, 0, 0, 0, 1, 0])
    model.setPose(
      { outline, head, next: new Float32Array([0, -300, 100, 0, 0, 0]), dots: new Float32Array(6) },
      inks,
    )
    expect(model.object.children[1].children).toHaveLength(4)
    const nothing = new Float32Array()
    model.setPose({ outline: nothing, head: nothing, next: nothing, dots: nothing }, inks)
    expect(model.object.children[1].children).toHaveLength(0)
  })
})

describe('what is drawn anew many times a second', () => {
  it('keeps its materials, so that no shader is built again, until it is put away', () => {
    const model = new LiveModel()
    const materials = () => {
      const out = new Set<THREE.Material>()
      model.object.traverse(
        (o) => (o as THREE.Mesh).material && out.add((o as THREE.Mesh).material as THREE.Material),
      )
      return out
    }
    const pose = {
      outline: new Float32Array(9),
      head: new Float32Array(new THREE.Matrix4().setPosition(0, 0, -300).transpose().elements),
      next: new Float32Array([0, -300, 100, 0, 0, 0]),
      dots: new Float32Array(6),
    }
    const grown = {
      vertices: new Float32Array(9),
      faces: new Uint32Array([0, 1, 2]),
      colours: new Uint8Array(9),
      level: new Uint8Array(3),
    }
    const show = () => {
      model.setModel(grown, ['#ffffff'])
      model.setPose(pose, { line: '#000000', next: '#008800' })
      return materials()
    }
    const [first, disposed] = [show(), vi.fn()]
    first.forEach((m) => m.addEventListener('dispose', disposed))
    expect(show()).toEqual(first)
    expect([first.size, disposed.mock.calls.length]).toEqual([7, 0])
    model.dispose()
    expect(disposed).toHaveBeenCalledTimes(7)
  })
})

describe('a pass by hand over the link', () => {
  const sent: Record<string, unknown>[] = []
  let hear: (data: unknown) => void = () => {}
  beforeEach(() => {
    vi.useFakeTimers()
    sent.length = 0
    vi.stubGlobal(
      'WebSocket',
      class {
        static OPEN = 1
        readyState = 1
        set onmessage(to: (e: { data: unknown }) => void) {
          hear = (data) => to({ data })
        }
        send(text: string) {
          sent.push(JSON.parse(text))
        }
        close() {}
      },
    )
  })
  afterEach(() => {
    vi.unstubAllGlobals()
    vi.useRealTimers()
  })
  const answer = (id: number, model: number, edition = model) => {
    const layers = [{ kind: 'hand', parts: ['head'] }]
    hear(
      pack(
        { id, kind: 'hand', snapshot: '', figures: { model, edition }, layers },
        { '0.head': new Float32Array(16) },
      ),
    )
  }
  it('is asked for again and again; steering adds up between, and a model that is known is not sent again', () => {
    const seen: Preview[] = []
    const link = new LiveLink('ws://here/ws', {
      state: () => {},
      preview: () => {},
      refused: () => {},
      hand: (p) => seen.push(p),
    })
    link.follow('c1')
    hear(JSON.stringify({ kind: 'live', state: 'up' }))
    expect(sent).toEqual([{ id: 1, kind: 'hand', capture: 'c1', since: -1, plainly: false, steer: null }])
    link.steer({ moves: { around_deg: 4 } })
    link.steer({ moves: { around_deg: 4, up_deg: 1 } })
    link.steer({ covered: true })
    link.drawPlainly(true)
    answer(1, 7)
    answer(1, 7)
    expect(seen, 'between two frames there is nothing new').toHaveLength(1)
    answer(1, 7, 8)
    vi.advanceTimersByTime(50)
    expect(sent, 'a machine that cannot draw all is asked less often').toHaveLength(1)
    vi.advanceTimersByTime(50)
    expect(sent.slice(1)).toEqual([
      {
        id: 2,
        kind: 'hand',
        capture: 'c1',
        since: 7,
        plainly: true,
        steer: { moves: { around_deg: 8, up_deg: 1 }, covered: true },
      },
    ])
    hear(JSON.stringify({ kind: 'refused', of: 'hand', id: 2, error: 'Not yet.' }))
    vi.advanceTimersByTime(100)
    expect(sent).toHaveLength(2)
    vi.advanceTimersByTime(400)
    expect(sent).toHaveLength(3)
    link.follow(null)
    answer(3, 8)
    vi.advanceTimersByTime(1000)
    expect(sent).toHaveLength(3)
    expect(seen).toHaveLength(2)
    link.close()
  })
})
