import type { Density } from '../density'
import type { Scene } from '../scene'
import type { Drawing, Layer } from './layer'

const opacity = 0.78 // so that the shore is seen through the cells

/** DensityLayer shades the cells of densities, on the base. */
export class DensityLayer implements Layer {
  constructor(private readonly scene: Scene) {}

  draw(d: Drawing): void {
    for (const density of this.scene.densities) this.shade(d, density)
  }

  private shade({ context, camera, density: pixels }: Drawing, density: Density): void {
    const columns = 2 ** density.level
    const x = (column: number) => camera.width / 2 + (column / columns - camera.centre.x) * camera.scale
    const y = (row: number) => camera.height / 2 + (row / columns - camera.centre.y) * camera.scale
    // Edges lie between device pixels, so that no seams show.
    const edge = (v: number) => Math.round(v * pixels) / pixels
    const paths = density.colours.map(() => new Path2D())
    for (const [column, row, class_] of density.cells) {
      const path = paths[class_]
      const top = edge(y(row))
      const bottom = edge(y(row + 1))
      if (!path || bottom < 0 || top > camera.height) continue
      for (const turn of [-columns, 0, columns]) {
        const left = edge(x(column + turn))
        const right = edge(x(column + turn + 1))
        if (right >= 0 && left <= camera.width) path.rect(left, top, right - left, bottom - top)
      }
    }
    context.globalAlpha = opacity
    paths.forEach((path, i) => {
      context.fillStyle = density.colours[i] ?? ''
      context.fill(path)
    })
    context.globalAlpha = 1
  }
}
