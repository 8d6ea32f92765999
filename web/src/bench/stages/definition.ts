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
  /** What Enter does while the tool is on. */
  enter?: (context: BenchContext) => void
  make: (context: BenchContext) => MakeTool
}

/** All that a stage brings to the bench. */
export interface StageDefinition {
  name: StageName
  title: string
  question: string
  /** Panels above the stage's operations. */
  panels?: Component[]
  /** Panels that take the place of an operation's form, by the operation's name. */
  cards?: Record<string, Component>
  tools?: ToolDefinition[]
  actions?: (context: BenchContext) => Action[]
}
