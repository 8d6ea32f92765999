import { SPOT, spotsPart } from '@/bench/stages/set/spots'
import type { ToolDefinition } from '@/bench/stages/definition'
import { standing } from '@/bench/stages/set/standing'
import { PushPlane } from '@/bench/viewer/tools/PushPlane'
import { Pick } from '@/bench/viewer/tools/Pick'

/** A click names a place, for the card that asks for some. */
export const spot: ToolDefinition = {
  name: SPOT,
  title: 'Pick places',
  key: 'Shift+A',
  hint: 'Click places on the surface. Enter does what the card is for.',
  wanted: (context) => spotsPart(context).role.value !== null,
  enter: (context) => spotsPart(context).enter(),
  make: (context) => (view) => new Pick(view, (place) => spotsPart(context).take(place)),
}

/** The floor that the object would stand on is tilted by its handles. */
export const tiltFloor: ToolDefinition = {
  name: 'tilt-floor',
  card: 'stand_up',
  title: 'Tilt floor',
  key: 'Shift+O',
  hint: 'Drag a ball to tilt the floor. Other drags turn the view. Enter stands the object up.',
  enter: (context) => context.part('standing', standing).enter.value?.(),
  make: (context) => (view) =>
    new PushPlane(view, context.view.viewer.value!.planes, context.part('standing', standing).drag),
}
