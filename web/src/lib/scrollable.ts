/** Lets the keyboard reach an element while it scrolls, by a name for screen readers. */
export function scrollable(node: HTMLElement, label: string) {
  function look() {
    const scrolls = node.scrollWidth > node.clientWidth || node.scrollHeight > node.clientHeight
    if (scrolls && !node.querySelector('a, button, input, select, textarea, [tabindex]')) {
      node.tabIndex = 0
      if (!node.getAttribute('aria-label')) {
        node.setAttribute('role', 'region')
        node.setAttribute('aria-label', label)
      }
    } else node.removeAttribute('tabindex')
  }
  const size = new ResizeObserver(look)
  size.observe(node)
  const content = new MutationObserver(look)
  content.observe(node, { childList: true, subtree: true })
  look()
  return {
    destroy() {
      size.disconnect()
      content.disconnect()
    },
  }
}
