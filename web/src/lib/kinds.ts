/** Kinds of parameters that hold what a hand marked on an object. */
export const BY_HAND = ['marks', 'places', 'place', 'plane', 'planes', 'line', 'choice_or_place', 'white']
/** Kinds of parameters that name something of one object alone. */
export const OF_ONE_OBJECT = ['passes', 'pass', 'frames', 'photographs', 'matrix', 'pairs']
