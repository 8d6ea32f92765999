import type { StageDefinition } from '@/bench/stages/definition'
import DeliverPanel from '@/bench/stages/deliver/DeliverPanel.vue'

export const deliver: StageDefinition = {
  name: 'deliver',
  title: 'Deliver',
  question: 'Who takes it, and in which form?',
  panels: [DeliverPanel],
  actions: ({ id, bench }) =>
    (bench.catalogue.value?.formats ?? []).map(({ name }) => ({
      id: `dl-${name}`,
      title: `Download ${name.toUpperCase()}`,
      group: 'Deliver',
      enabled: () => !!bench.bench.value?.mesh,
      run: () => window.location.assign(`/api/objects/${id}/download/${name}`),
    })),
}
