import type { Component } from 'vue'
import type { StageName } from '@/api/client'
import type { BenchContext } from '@/bench/context'
import type { MakeTool } from '@/bench/viewer/tools/Tool'
import type { Action } from '@/stores/actions'

/** A tool of a stage, as the strip in the view shows it. */
export interface ToolDefinition {
  name: string
  title: string
  key: string
  /** One line at the lower edge of the view while the tool is on. */
  hint: string
  /** The operation whose card it belongs to: opened when the tool is put on. */
  card?: string
  /** What Enter does while the tool is on. */
  enter?: (context: BenchContext) => void
  /** When it is offered; left out, as long as its stage is open. */
  wanted?: (context: BenchContext) => boolean
  make: (context: BenchContext) => MakeTool
}

/** What a key does for an operation that is chosen in its card: that one is opened. */
export const opens =
  (stage: StageName, name: string) =>
  ({ view, goTo }: BenchContext) => {
    goTo(stage)
    view.card.value = name
  }

/** All that a stage brings to the bench. */
export interface StageDefinition {
  name: StageName
  title: string
  question: string
  /** Panels above the stage's operations. */
  panels?: Component[]
  /** What stands on the left in place of findings and run sheet, as long as it is wanted. */
  left?: { panel: Component; wanted: (context: BenchContext) => boolean }
  /** Panels that take the place of an operation's form, by the operation's name. */
  cards?: Record<string, Component>
  /** What operations are called here, where their card does more than they do. */
  titles?: Record<string, string>
  /** Operations without a card of their own: they are done from another one. */
  within?: string[]
  /** What an operation's key does in place of running it with what it has by itself. */
  runs?: Record<string, (context: BenchContext) => void>
  tools?: ToolDefinition[]
  actions?: (context: BenchContext) => Action[]
}
