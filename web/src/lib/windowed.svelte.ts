import {
  elementScroll,
  observeElementOffset,
  observeElementRect,
  Virtualizer,
  type VirtualItem,
} from '@tanstack/virtual-core'

/** The items of a long list that are in view, with the space that the others take before and after them, in pixels. */
export interface Windowed {
  items: VirtualItem[]
  before: number
  after: number
  /** An action on the element of an item (which has its place as data-index): learns its height. */
  measured: (node: HTMLElement) => void
  /** Brings an item into view. */
  show: (index: number) => void
}

/** Shows of a long list only what is in view, plus some items around it. */
export function windowed(count: () => number, scroller: () => HTMLElement | null, height: number): Windowed {
  let state = $state.raw<{ items: VirtualItem[]; before: number; after: number }>({ items: [], before: 0, after: 0 })
  const update = () => {
    const items = virtual.getVirtualItems()
    state = { items, before: items[0]?.start ?? 0, after: virtual.getTotalSize() - (items.at(-1)?.end ?? 0) }
  }
  const options = () => ({
    count: count(),
    getScrollElement: scroller,
    estimateSize: () => height,
    overscan: 12,
    observeElementRect,
    observeElementOffset,
    scrollToFn: elementScroll,
    onChange: update,
  })
  const virtual = new Virtualizer<HTMLElement, HTMLElement>(options())
  $effect(() => virtual._didMount())
  $effect(() => {
    virtual.setOptions(options())
    virtual._willUpdate()
    update()
  })
  return {
    // A list that got shorter is known before what is in view of it is.
    get items() {
      const there = count()
      return state.items.filter((item) => item.index < there)
    },
    get before() {
      return state.before
    },
    get after() {
      return state.after
    },
    measured: (node) => virtual.measureElement(node),
    show: (index) => virtual.scrollToIndex(index, { align: 'auto' }),
  }
}
