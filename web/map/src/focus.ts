/** What has the focus in the tree that an element is in. */
const focused = (of: HTMLElement) => (of.getRootNode() as Document | ShadowRoot).activeElement

/** Whether the focus is in an element. */
export const hasFocus = (element: HTMLElement): boolean => element.contains(focused(element))

/** Whether anything has the focus, in the tree that an element is in. */
export function focusIsSomewhere(element: HTMLElement): boolean {
  const active = focused(element)
  return active !== null && active !== document.body
}
