import * as THREE from 'three'
import { describe, expect, it, vi } from 'vitest'
import * as views from '@/bench/viewer/camera'
import type { Planes } from '@/bench/viewer/layers/Planes'
import { PointerOwner } from '@/bench/viewer/pointer'
import { drawsInSoftware, Effort } from '@/bench/viewer/effort'
import { QuickPicture } from '@/bench/viewer/quickPicture'
import { Redraw } from '@/bench/viewer/redraw'
import { DrawLine } from '@/bench/viewer/tools/DrawLine'
import type { Orbit } from '@/bench/viewer/tools/Orbit'
import { Pick } from '@/bench/viewer/tools/Pick'
import { alongLine, PushPlane } from '@/bench/viewer/tools/PushPlane'
import type { Tool, ToolView } from '@/bench/viewer/tools/Tool'

const SIZE = [725, 590] as const
const at = (x: number, y: number, shift = false) => ({ x, y, shift })

function camera() {
  const c = views.makeCamera()
  c.aspect = SIZE[0] / SIZE[1]
  c.position.set(40, -300, 120)
  c.lookAt(0, 0, 20)
  c.updateProjectionMatrix()
  return c
}
function view(more: Partial<ToolView> = {}) {
  const c = camera()
  return {
    camera: c,
    lines: { set: vi.fn() },
    sight: (x: number, y: number) => ({ ray: views.rayThrough(c, ...SIZE, x, y), pixel: 0.001 }),
    project: (p: THREE.Vector3) => views.pixelOf(c, ...SIZE, p),
    pick: vi.fn(() => null),
    asJson: () => views.viewJson(c, ...SIZE),
    ask: vi.fn(),
    ...more,
  } as unknown as ToolView & { lines: { set: ReturnType<typeof vi.fn> } }
}

describe('the view as steps keep it', () => {
  it('puts a place in the pixel where it is seen, by the rule of the core', () => {
    const c = camera()
    const { T_view_object: T, fov_deg, width, height } = views.viewJson(c, ...SIZE)
    expect([fov_deg, width, height]).toEqual([30, ...SIZE])
    for (const p of [
      [0, 0, 0],
      [12, -30, 44],
      [-25, 18, 3],
    ]) {
      // As `View.project` of the core: along +Z, x right, y down, pixel centres at whole numbers.
      const [x, y, z] = [0, 1, 2].map((k) => T[k][0] * p[0] + T[k][1] * p[1] + T[k][2] * p[2] + T[k][3])
      const focal = height / (2 * Math.tan((fov_deg * Math.PI) / 360))
      const [u, v] = views.pixelOf(c, ...SIZE, new THREE.Vector3(...(p as [number, number, number])))
      expect(z).toBeGreaterThan(0)
      expect((x / z) * focal + (width - 1) / 2).toBeCloseTo(u, 6)
      expect((y / z) * focal + (height - 1) / 2).toBeCloseTo(v, 6)
    }
  })
  it('sends a ray through the pixel that a place is seen in', () => {
    const c = camera()
    const place = new THREE.Vector3(12, -30, 44)
    const [u, v] = views.pixelOf(c, ...SIZE, place)
    expect(views.rayThrough(c, ...SIZE, u, v).distanceToPoint(place)).toBeLessThan(1e-6)
  })
})

describe('drawing a line', () => {
  const draw = (from: number[], to: number[], shift = false) => {
    const drawn = vi.fn()
    const shown = view()
    const tool = new DrawLine(shown, drawn)
    expect(tool.down(at(from[0], from[1]))).toBe(true)
    tool.move(at((from[0] + to[0]) / 2, to[1], shift))
    tool.up(at(to[0], to[1], shift))
    return { line: drawn.mock.calls[0]?.[0], shown }
  }
  it('gives both ends in the view it was drawn in, kept side above however it was drawn', () => {
    const there = draw([100, 400], [600, 380]).line
    const back = draw([600, 380], [100, 400]).line
    expect(there).toEqual(back)
    expect([there.start, there.end]).toEqual([
      [100, 400],
      [600, 380],
    ])
    expect(there.view.width).toBe(725)
  })
  it('shows the line under way and takes it off at the end', () => {
    const { shown } = draw([100, 400], [600, 380])
    expect(shown.lines.set.mock.calls[0][0]).toHaveLength(2)
    expect(shown.lines.set.mock.calls.at(-1)).toEqual([[]])
  })
  it('holds to steps of 15° with Shift, and takes no slip of the hand for a line', () => {
    const { line } = draw([100, 400], [300, 420], true)
    expect(line.end[1]).toBeCloseTo(400)
    expect(draw([100, 400], [105, 402]).line).toBeUndefined()
  })
})

describe('pushing a plane', () => {
  const normal = new THREE.Vector3(0, 0, 1)
  const handles = [
    { kind: 'push', at: new THREE.Vector3(0, 0, 10), normal, arm: normal },
    { kind: 'along', at: new THREE.Vector3(40, 0, 0), normal, arm: new THREE.Vector3(40, 0, 0) },
  ]
  const drag = (from: THREE.Vector3, to: THREE.Vector3) => {
    const told = vi.fn()
    const shown = view()
    const tool = new PushPlane(shown, { handles } as unknown as Planes, told)
    const [u, v] = shown.project(from)
    const taken = tool.down(at(u, v))
    const [s, t] = shown.project(to)
    tool.move(at(s, t))
    tool.up(at(s, t))
    return { taken, told: told.mock.calls }
  }
  it('takes a drag at a handle only, and leaves all others to turning', () => {
    expect(drag(new THREE.Vector3(0, 30, 60), new THREE.Vector3(0, 0, 0))).toEqual({ taken: false, told: [] })
  })
  it('tells how far it was pushed in millimetres', () => {
    const { taken, told } = drag(handles[0].at, new THREE.Vector3(0, 0, 17.5))
    expect(taken).toBe(true)
    expect(told[0][0]).toBe('push')
    expect(told[0][1]).toBeCloseTo(7.5, 6)
    expect(told.map(([, , end]) => end)).toEqual([false, true])
  })
  it('tells how far it was tilted in degrees', () => {
    const { told } = drag(handles[1].at, new THREE.Vector3(40, 0, 40 * Math.tan(Math.PI / 9)))
    expect(told[0][0]).toBe('along')
    expect(told[0][1]).toBeCloseTo(20, 6)
  })
  it('says nothing when one looks along the line that a drag is measured on', () => {
    const ray = new THREE.Ray(new THREE.Vector3(0, 0, 100), new THREE.Vector3(0, 0, -1))
    expect(alongLine(ray, new THREE.Vector3(), normal)).toBe(0)
  })
})

describe('asking a place', () => {
  it('answers a click and no drag', () => {
    const place = { place: [1, 2, 3] }
    const picked = vi.fn()
    const tool = new Pick(view({ pick: (() => place) as never }), picked)
    expect(tool.down(at(50, 50))).toBe(false)
    tool.up(at(51, 50))
    expect(picked).toHaveBeenCalledWith(place)
    tool.down(at(50, 50))
    tool.up(at(90, 50))
    expect(picked).toHaveBeenCalledOnce()
  })
})

describe('who owns the pointer', () => {
  function owner(tool: Partial<Tool>) {
    const host = document.createElement('div')
    document.body.append(host)
    const turning = vi.fn()
    const canvas = document.createElement('canvas')
    canvas.addEventListener('pointerdown', turning)
    host.append(canvas)
    const orbit = { yieldLeft: vi.fn() }
    const pointer = new PointerOwner(host, orbit as unknown as Orbit, vi.fn())
    const made = { cursor: 'crosshair', takesAll: true, dispose: vi.fn(), ...tool } as Tool
    pointer.take(made)
    const send = (kind: string, more: object = {}) =>
      canvas.dispatchEvent(
        new PointerEvent(kind, { bubbles: true, button: 0, clientX: 30, clientY: 40, ...more }),
      )
    return { host, orbit, pointer, made, send, turning }
  }
  it('is the tool from where the button goes down to where it goes up', () => {
    const tool = { down: vi.fn(() => true), move: vi.fn(), up: vi.fn() }
    const { send, turning, host } = owner(tool)
    send('pointermove', { buttons: 1 })
    expect(tool.move).not.toHaveBeenCalled()
    send('pointerdown')
    expect(host.style.cursor).toBe('grabbing')
    send('pointermove', { buttons: 1 })
    send('pointerup')
    send('pointermove', { buttons: 1 })
    expect(tool.down).toHaveBeenCalledWith({ x: 30, y: 40, shift: false })
    expect([tool.move.mock.calls.length, tool.up.mock.calls.length]).toEqual([1, 1])
    expect(turning).not.toHaveBeenCalled()
  })
  it('is turning when the tool does not take the drag, with the right button, and with Space held', () => {
    const tool = { down: vi.fn(() => false) }
    const { send, turning, orbit } = owner(tool)
    send('pointerdown')
    send('pointerdown', { button: 2 })
    expect([tool.down.mock.calls.length, turning.mock.calls.length]).toEqual([1, 2])
    document.body.dispatchEvent(new KeyboardEvent('keydown', { code: 'Space', bubbles: true }))
    expect(orbit.yieldLeft).toHaveBeenLastCalledWith(false)
    send('pointerdown')
    expect(tool.down).toHaveBeenCalledOnce()
    document.body.dispatchEvent(new KeyboardEvent('keyup', { code: 'Space', bubbles: true }))
    expect(orbit.yieldLeft).toHaveBeenLastCalledWith(true)
  })
  it('is let go of when a tool is put away', () => {
    const { made, pointer, host, orbit } = owner({})
    expect(host.style.cursor).toBe('crosshair')
    pointer.take(null)
    expect(made.dispose).toHaveBeenCalledOnce()
    expect(host.style.cursor).toBe('')
    expect(orbit.yieldLeft).toHaveBeenLastCalledWith(false)
    pointer.dispose()
  })
})

describe('drawing on demand', () => {
  it('draws once however often it is asked, and lightly while the view moves', async () => {
    vi.useFakeTimers()
    const frames: (() => void)[] = []
    vi.stubGlobal('requestAnimationFrame', (f: () => void) => frames.push(f))
    const drawn: boolean[] = []
    const redraw = new Redraw((moving) => drawn.push(moving))
    const next = () => frames.splice(0).forEach((f) => f())
    redraw.ask()
    redraw.ask()
    next()
    expect(drawn).toEqual([false])
    redraw.move()
    next()
    expect(drawn).toEqual([false, true])
    vi.advanceTimersByTime(500)
    next()
    next()
    expect(drawn).toEqual([false, true, false])
    vi.unstubAllGlobals()
    vi.useRealTimers()
  })
  it('draws only what changed over what stands, unless all is asked for before the next frame', () => {
    const frames: (() => void)[] = []
    vi.stubGlobal('requestAnimationFrame', (f: () => void) => frames.push(f))
    const drawn: boolean[] = []
    const redraw = new Redraw((_, over) => drawn.push(over))
    const next = () => frames.splice(0).forEach((f) => f())
    redraw.askOver()
    redraw.askOver()
    next()
    expect(drawn).toEqual([true])
    for (const asks of [
      [redraw.askOver, redraw.ask],
      [redraw.ask, redraw.askOver],
    ]) {
      asks.forEach((ask) => ask())
      next()
      next()
    }
    expect(drawn).toEqual([true, false, false])
    vi.unstubAllGlobals()
  })
  it('has what grows come plainly where it is too much, and tries the whole again seldom and seldomer', () => {
    vi.useFakeTimers()
    const effort = new Effort()
    const look = (slow: boolean, easy: boolean, after: number) => {
      vi.advanceTimersByTime(after)
      effort.look(true, { slow, easy })
      return effort.plainly
    }
    expect([look(false, true, 0), look(true, false, 10), look(false, true, 1000)]).toEqual([
      false,
      true,
      true,
    ])
    expect([look(false, false, 70_000), look(false, true, 0)]).toEqual([true, false])
    expect([look(true, false, 500), look(false, true, 70_000), look(false, true, 60_000)]).toEqual([
      true,
      true,
      false,
    ])
    effort.look(false, { slow: true, easy: false })
    expect(effort.plainly).toBe(false)
    vi.useRealTimers()
  })
  it('has what grows come plainly from the beginning where there is no graphics card', () => {
    const context = (name: string, told = true) =>
      ({
        RENDERER: 1,
        getExtension: () => (told ? { UNMASKED_RENDERER_WEBGL: 2 } : null),
        getParameter: (asked: number) => (told === (asked === 2) ? name : 'hidden'),
      }) as unknown as WebGLRenderingContext
    expect(drawsInSoftware(context('ANGLE (Google, Vulkan 1.3 (SwiftShader Device))'))).toBe(true)
    expect(drawsInSoftware(context('llvmpipe (LLVM 15.0.6, 256 bits)', false))).toBe(true)
    expect(drawsInSoftware(context('Mesa Intel(R) UHD Graphics 620 (KBL GT2)'))).toBe(false)
    const effort = new Effort(true)
    effort.look(true, { slow: false, easy: true })
    expect(effort.plainly).toBe(true)
    effort.look(false, { slow: false, easy: true })
    expect(effort.plainly).toBe(false)
  })
  it('draws unsmoothed into a picture as large as the canvas, and that onto the canvas', () => {
    const done: string[] = []
    const scene = new THREE.Scene()
    const renderer = {
      getDrawingBufferSize: (out: THREE.Vector2) => out.set(545, 443),
      setRenderTarget: (t: THREE.WebGLRenderTarget | null) =>
        done.push(t ? `into ${t.width}×${t.height} by ${t.samples}` : 'onto the canvas'),
      render: (what: THREE.Object3D) => done.push(what === scene ? 'the scene' : 'the picture'),
    } as unknown as THREE.WebGLRenderer
    const quick = new QuickPicture()
    quick.render(renderer, scene, camera())
    expect(done).toEqual(['into 545×443 by 0', 'the scene', 'onto the canvas', 'the picture'])
    quick.dispose()
  })
  it('knows when the machine does not keep up, and when it does again', () => {
    vi.useFakeTimers()
    const frames: (() => void)[] = []
    vi.stubGlobal('requestAnimationFrame', (f: () => void) => frames.push(f))
    const redraw = new Redraw(() => undefined)
    const drawings = (count: number, ms: number, after = 16) => {
      for (let n = 0; n < count; n++) {
        redraw.ask()
        frames.splice(0).forEach((f) => f())
        for (const wait of [ms, after]) {
          vi.advanceTimersByTime(wait)
          frames.splice(0).forEach((f) => f())
        }
      }
    }
    drawings(10, 16)
    expect([redraw.slow, redraw.easy]).toEqual([false, true])
    drawings(10, 200)
    expect([redraw.slow, redraw.easy]).toEqual([true, false])
    drawings(10, 50)
    expect([redraw.slow, redraw.easy]).toEqual([false, false])
    drawings(20, 16)
    expect([redraw.slow, redraw.easy]).toEqual([false, true])
    // The next frame was on its way already: only the one after waits for the drawing.
    drawings(10, 16, 200)
    expect([redraw.slow, redraw.easy]).toEqual([true, false])
    vi.unstubAllGlobals()
    vi.useRealTimers()
  })
})
