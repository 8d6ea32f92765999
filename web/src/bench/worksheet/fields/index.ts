import type { Component } from 'vue'
import type { ParameterView } from '@/api/client'
import ChoiceField from '@/bench/worksheet/fields/ChoiceField.vue'
import ColourField from '@/bench/worksheet/fields/ColourField.vue'
import DrawnField from '@/bench/worksheet/fields/DrawnField.vue'
import NumberField from '@/bench/worksheet/fields/NumberField.vue'
import PassField from '@/bench/worksheet/fields/PassField.vue'
import PassesField from '@/bench/worksheet/fields/PassesField.vue'
import SwitchField from '@/bench/worksheet/fields/SwitchField.vue'
import WrittenField from '@/bench/worksheet/fields/WrittenField.vue'

/** The field of each kind of parameter; every kind of the server has one. */
export const FIELDS: Record<string, Component> = {
  number: NumberField,
  whole: NumberField,
  switch: SwitchField,
  choice: ChoiceField,
  pass: PassField,
  passes: PassesField,
  colour: ColourField,
  text: WrittenField,
  numbers: WrittenField,
  place: WrittenField,
  places: WrittenField,
  plane: WrittenField,
  planes: WrittenField,
  matrix: WrittenField,
  pairs: WrittenField,
  frames: WrittenField,
  photographs: WrittenField,
  white: WrittenField,
  choice_or_place: WrittenField,
  line: DrawnField,
  marks: DrawnField,
}

export function fieldOf(parameter: ParameterView): Component {
  const field = FIELDS[parameter.kind]
  if (!field) throw new Error(`There is no field for parameters of the kind “${parameter.kind}”.`)
  return field
}

const BLOCKS = ['choice', 'passes', 'line', 'marks', 'pairs', 'matrix']
/** Whether a field is one input, which a label beside it names. */
export const inLabel = (parameter: ParameterView) => !BLOCKS.includes(parameter.kind)

/** Names that are letters of a format. */
const FORMATS = ['usdz']
/** A parameter's name in plain words. */
export const words = (name: string) =>
  FORMATS.includes(name)
    ? name.toUpperCase()
    : name
        .replace(/_mm$|_deg$/, '')
        .replace(/_/g, ' ')
        .replace(/^./, (c) => c.toUpperCase())
