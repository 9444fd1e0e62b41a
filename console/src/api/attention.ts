/** How long after the last key, click or touch somebody is still taken to be there. */
const while_ = 60_000

let last = Date.now()
for (const event of ['keydown', 'pointerdown', 'wheel', 'touchstart'] as const) {
  window.addEventListener(event, () => (last = Date.now()), { capture: true, passive: true })
}

/** Whether somebody has done something here just now. */
export function attended(): boolean {
  return Date.now() - last < while_
}
