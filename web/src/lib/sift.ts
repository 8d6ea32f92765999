/** What the shelf can be sorted and sifted by, of an object on it. */
export interface Sifted {
  title: string
  notes: string
  tags: string[]
  owner: string
  size_mm: number | null
  standing: string
  archived: boolean
  deleted: string | null
  changed: string
  created: string
  stages: { findings: number }[]
}
export type Order = 'changed' | 'title' | 'size' | 'created'
export type Where = 'shelf' | 'archive' | 'thrown'
export interface Wish {
  words: string
  where: Where
  standing: string
  size: string
  owner: string
  tag: string
  order: Order
}
export const NO_WISH: Wish = {
  words: '',
  where: 'shelf',
  standing: '',
  size: '',
  owner: '',
  tag: '',
  order: 'created',
}
/** Largest sizes (mm) of what is small and of what is middling. */
export const SIZES: Record<string, [number, number]> = {
  small: [0, 50],
  middling: [50, 150],
  large: [150, Infinity],
}
const open = (item: Sifted) => item.stages.some((s) => s.findings)

/** Those that are wanted, in the order that is wished. */
export function sifted<T extends Sifted>(items: T[], wish: Wish): T[] {
  const words = wish.words.toLowerCase().split(/\s+/).filter(Boolean)
  const found = items.filter((item) => {
    const where: Where = item.deleted ? 'thrown' : item.archived ? 'archive' : 'shelf'
    if (where !== wish.where) return false
    if (wish.standing === 'waiting' ? !open(item) : wish.standing && item.standing !== wish.standing)
      return false
    if (wish.owner && (item.owner || 'mine') !== wish.owner) return false
    if (wish.tag && !item.tags.includes(wish.tag)) return false
    if (wish.size) {
      const [from, to] = SIZES[wish.size]
      if (item.size_mm == null || item.size_mm < from || item.size_mm >= to) return false
    }
    const text = `${item.title} ${item.notes} ${item.owner} ${item.tags.join(' ')}`.toLowerCase()
    return words.every((word) => text.includes(word))
  })
  return found.sort(ORDERS[wish.order])
}
const ORDERS: Record<Order, (a: Sifted, b: Sifted) => number> = {
  changed: (a, b) => b.changed.localeCompare(a.changed),
  created: (a, b) => a.created.localeCompare(b.created),
  title: (a, b) => a.title.localeCompare(b.title, undefined, { numeric: true }),
  size: (a, b) => (b.size_mm ?? -1) - (a.size_mm ?? -1),
}
