import { project, shortWay } from '../projection'
import type { Drawing } from './layer'

const steps = [30, 15, 10, 5, 2, 1, 1 / 2, 1 / 4, 1 / 6, 1 / 12, 1 / 30, 1 / 60, 1 / 120, 1 / 300, 1 / 600]

/** Draws lines of longitude and latitude about 150 CSS pixels apart, labelled at the edges. */
export function drawGraticule({ context, camera, paint }: Drawing): void {
  const step = steps.findLast((s) => (s / 360) * camera.scale >= 150) ?? 30
  const box = camera.bounds()
  context.strokeStyle = paint.line
  context.fillStyle = paint.label
  context.lineWidth = 1
  context.font = '11px system-ui, sans-serif'
  context.beginPath()
  const labels: [string, number, number][] = []
  const east = box.west > box.east ? box.east + 360 : box.east
  for (let i = Math.ceil(box.west / step); i * step <= east; i++) {
    const m = project({ lon: i * step, lat: 0 })
    const x = Math.round(camera.width / 2 + shortWay(camera.centre.x, m.x) * camera.scale) + 0.5
    context.moveTo(x, 0)
    context.lineTo(x, camera.height)
    const lon = ((((i * step + 180) % 360) + 360) % 360) - 180
    labels.push([angle(lon, 'E', 'W'), x + 4, 14])
  }
  for (let i = Math.ceil(Math.max(-85, box.south) / step); i * step <= Math.min(85, box.north); i++) {
    const y = Math.round(camera.toScreen(project({ lon: 0, lat: i * step })).y) + 0.5
    context.moveTo(0, y)
    context.lineTo(camera.width, y)
    labels.push([angle(i * step, 'N', 'S'), 6, y - 4])
  }
  context.stroke()
  for (const [text, x, y] of labels) context.fillText(text, x, y)
}

/** Writes an angle in degrees and minutes. */
function angle(degrees: number, positive: string, negative: string): string {
  const tenths = Math.round(Math.abs(degrees) * 600)
  const whole = Math.floor(tenths / 600)
  const minutes = (tenths % 600) / 10
  const side = tenths === 0 || tenths === 180 * 600 ? '' : ` ${degrees > 0 ? positive : negative}`
  return minutes ? `${whole}° ${minutes}′${side}` : `${whole}°${side}`
}
