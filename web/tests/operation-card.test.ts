import { mount } from '@vue/test-utils'
import PrimeVue from 'primevue/config'
import { describe, expect, it } from 'vitest'
import { defineComponent, h } from 'vue'
import type { OperationView } from '@/api/client'
import OperationCard from '@/bench/worksheet/OperationCard.vue'

const fuse = {
  name: 'fuse',
  title: 'Fuse',
  stage: 'fuse',
  help: 'Fuse all frames to one measured surface.',
  key: 'U',
  parameters: [
    {
      name: 'voxel_mm',
      kind: 'number',
      default: 0.5,
      unit: 'mm',
      low: 0,
      high: 20,
      choices: [],
      help: 'Voxel size',
    },
    {
      name: 'character',
      kind: 'choice',
      default: 'even',
      unit: '',
      low: null,
      high: null,
      choices: ['draft', 'even', 'crisp'],
      help: 'How it averages',
    },
    {
      name: 'follow_curvature',
      kind: 'switch',
      default: true,
      unit: '',
      low: null,
      high: null,
      choices: [],
      help: '',
    },
  ],
} as unknown as OperationView

const card = (more = {}) =>
  mount(OperationCard, {
    props: {
      operation: fuse,
      title: 'Fuse',
      titles: ['upright'],
      missing: '',
      open: true,
      done: null,
      busy: false,
      main: true,
      ...more,
    },
    global: { plugins: [[PrimeVue, { unstyled: true }]] },
  })

describe('operation card', () => {
  it('shows choices as buttons in plain words', () => {
    const buttons = card().findAll('[role=group] button, .p-selectbutton button')
    expect(buttons.map((b) => b.text())).toEqual(['Draft', 'Even', 'Crisp'])
  })
  it('runs with the values that stand in its form', async () => {
    const wrapper = card()
    await wrapper.findAll('[role=group] button')[2].trigger('click')
    await wrapper.find('form').trigger('submit')
    expect(wrapper.emitted('run')).toEqual([[{ voxel_mm: 0.5, character: 'crisp', follow_curvature: true }]])
  })
  it('takes over the values of the last run and says what it gave', () => {
    const done = {
      parameters: { voxel_mm: 0.25, character: 'draft' },
      headline: '12 k at 0.25 mm',
    }
    const wrapper = card({ done })
    expect(wrapper.find('.tick').text()).toBe('✓')
    expect(wrapper.find('.said').text()).toMatch(/12.k at 0\.25.mm/)
  })
  it('is a heading that opens when folded', async () => {
    const wrapper = card({ open: false })
    expect(wrapper.find('form').exists()).toBe(false)
    await wrapper.find('button.head').trigger('click')
    expect(wrapper.emitted('open')).toHaveLength(1)
    expect(wrapper.find('kbd').text()).toBe('U')
  })
  it('cannot be run while something computes', () => {
    expect(card({ busy: true }).find('form > button').attributes('disabled')).toBeDefined()
  })
  it('says what comes first when it cannot be run yet, and offers nothing', () => {
    const wrapper = card({ missing: 'No pass is placed yet. Find the fit first.' })
    expect(wrapper.text()).toContain('Find the fit first.')
    expect(wrapper.find('form > button').attributes('disabled')).toBeDefined()
  })
  it('shows a panel of its own in place of the form', () => {
    const body = defineComponent({
      props: { busy: Boolean, main: Boolean },
      setup: (p) => () => h('i', `own ${p.busy}`),
    })
    const wrapper = card({ body, missing: 'There is no pass yet. Capture one first.' })
    expect(wrapper.find('form').exists()).toBe(false)
    expect(wrapper.find('i').text()).toBe('own true')
  })
})
