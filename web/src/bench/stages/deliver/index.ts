import type { StageDefinition } from '@/bench/stages/definition'
import { deliveringPart } from '@/bench/stages/deliver/delivering'
import DeliverPanel from '@/bench/stages/deliver/DeliverPanel.vue'

export const deliver: StageDefinition = {
  name: 'deliver',
  title: 'Deliver',
  question: 'Who takes it, and in which form?',
  panels: [DeliverPanel],
  actions: (context) => [
    {
      id: 'deliver',
      title: 'Deliver to who is chosen',
      group: 'Deliver',
      key: 'Shift+L',
      enabled: () =>
        context.stage.value === 'deliver' && !!context.bench.bench.value?.mesh && !context.bench.busy.value,
      run: () => void deliveringPart(context).deliver(),
    },
    ...(context.bench.catalogue.value?.formats ?? []).map(({ name }) => ({
      id: `dl-${name}`,
      title: `Download ${name.toUpperCase()}`,
      group: 'Deliver',
      enabled: () => !!context.bench.bench.value?.mesh,
      run: () => window.location.assign(`/api/objects/${context.id}/download/${name}`),
    })),
  ],
}
