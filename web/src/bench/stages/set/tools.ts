import { SPOT, spotsPart } from '@/bench/stages/set/spots'
import type { ToolDefinition } from '@/bench/stages/definition'
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
