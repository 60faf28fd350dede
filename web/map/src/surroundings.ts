/**
 * Until the signal, calls recolour when the colours may be others, with the system's or with what the page says of
 * itself; and redraw when the window goes to a screen with another density, or the page is enlarged.
 */
export function watchSurroundings(recolour: () => void, redraw: () => void, signal: AbortSignal): void {
  matchMedia('(prefers-color-scheme: dark)').addEventListener('change', recolour, { signal })
  const page = new MutationObserver(recolour)
  page.observe(document.documentElement, { attributes: true })
  signal.addEventListener('abort', () => page.disconnect())
  watchDensity(redraw, signal)
}

function watchDensity(redraw: () => void, signal: AbortSignal): void {
  const same = matchMedia(`(resolution: ${window.devicePixelRatio}dppx)`)
  const changed = () => {
    redraw()
    watchDensity(redraw, signal)
  }
  same.addEventListener('change', changed, { signal, once: true })
}
