import { iconChanges, iconPicture } from './icons'

/** How one thing is drawn. The shape always says the same as the colour. */
export interface Look {
  colour: string
  ink: string // of the shape on the colour
  shape: string // an SVG picture, square
  line: Line
  fill: Fill
}

/** How paths, and the borders of areas and circles, are drawn; what is absent is as usual. */
export interface Line {
  colour?: string // that of the look if absent
  width?: number // CSS pixels
  dash?: 'solid' | 'dashed' | 'dotted'
  opacity?: number
}

/** How areas and circles are filled. */
export interface Fill {
  colour?: string // that of the look if absent
  opacity?: number
}

/** What a style says of some features: the name of an icon, a colour as #rrggbb, and how lines and areas differ. */
export interface LookText {
  icon?: string
  colour?: string
  line?: Line
  fill?: Fill
}

/** How a collection is drawn, as the service has it. */
export interface Style {
  default?: LookText
  categories?: (LookText & { value: string; label?: string })[]
  rules?: (LookText & { when: string; label?: string })[]
  line?: Line
  fill?: Fill
  circle?: { metres?: number; property?: string } // around each place
  labels?: boolean
  badge?: { show?: string; property?: string } // what clusters tell
  density?: { to?: number } // places are drawn as shaded cells up to a zoom, or at all
  zooms?: { from: number; to: number }
  order?: number
}

/** What the data of a feature make of its look, as the service has worked it out. */
export interface Drawing {
  rule?: number
  size?: number // CSS pixels
  colour?: string
  radius?: number // metres
  tip?: string // what is told below the name
}

const usual = { icon: 'minus', colour: '#5f6b76' }

/** Looks gives the looks of a collection's features by its style. */
export class Looks {
  private readonly known = new Map<string, Look>()
  private icons = iconChanges() // as of which looks are known

  constructor(readonly style: Style) {}

  /** The look of a category, and of one of its features where the data have something to say. */
  of(category: string, drawing: Drawing = {}): Look {
    if (this.icons !== iconChanges()) this.known.clear()
    this.icons = iconChanges()
    const { rule, colour } = drawing
    const key = `${rule ?? ''} ${colour ?? ''} ${category}`
    let look = this.known.get(key)
    if (!look) {
      const said: LookText =
        (rule !== undefined ? this.style.rules?.[rule] : this.style.categories?.find((c) => c.value === category)) ?? {}
      const base = this.style.default ?? {}
      look = lookOf({
        ...usual,
        ...filled(base),
        ...filled(said),
        ...(colour && { colour }),
        line: { ...this.style.line, ...base.line, ...said.line },
        fill: { ...this.style.fill, ...base.fill, ...said.fill },
      })
      this.known.set(key, look)
    }
    return look
  }
}

/** How what a source shows is drawn: all in one way, or each layer in its own. */
export interface Appearance {
  id: string // of the source
  looks: Looks
  layers?: ReadonlyMap<string, Looks> // by what markers and shapes have as their layer
}

/** The looks of one of the layers of a source. */
export function looksIn(drawn: Appearance, layer: string | undefined): Looks {
  return (layer !== undefined && drawn.layers?.get(layer)) || drawn.looks
}

function filled(l: LookText): LookText {
  return { ...(l.icon && { icon: l.icon }), ...(l.colour && { colour: l.colour }) }
}

export function lookOf(l: LookText): Look {
  const colour = l.colour ?? usual.colour
  return {
    line: l.line ?? {},
    fill: l.fill ?? {},
    colour,
    ink: inkOn(colour),
    shape: iconPicture(l.icon ?? '') ?? iconPicture(usual.icon) ?? '',
  }
}

/** The relative luminance of a colour (WCAG 2.2), 0 to 1. */
function luminance(colour: string): number {
  const channel = (i: number) => {
    const v = parseInt(colour.slice(i, i + 2), 16) / 255
    return v <= 0.04045 ? v / 12.92 : ((v + 0.055) / 1.055) ** 2.4
  }
  return 0.2126 * channel(1) + 0.7152 * channel(3) + 0.0722 * channel(5)
}

/** Whether a colour, as browsers compute it, is a dark one. */
export function isDark(colour: string): boolean {
  const [r = 0, g = 0, b = 0] = (colour.match(/[\d.]+/g) ?? []).map(Number)
  return 0.2126 * r + 0.7152 * g + 0.0722 * b < 110
}

/** Black or white, whichever has the higher contrast on a colour. */
function inkOn(colour: string): string {
  return luminance(colour) > 0.24 ? '#1b1b1b' : '#ffffff'
}

/** The colour of a line on a dark map: a dark one is mixed with white until it stands out. */
export function onDark(colour: string): string {
  const share = Math.max(0, 0.55 - 1.6 * luminance(colour))
  const mixed = [1, 3, 5].map((i) => Math.round(parseInt(colour.slice(i, i + 2), 16) * (1 - share) + 255 * share))
  return `#${mixed.map((v) => v.toString(16).padStart(2, '0')).join('')}`
}

/** Plain shapes are filled; other icons are drawn in lines. */
const solid = new Set(
  ['circle', 'clover', 'cross', 'diamond', 'droplet', 'heart', 'hexagon', 'moon', 'square', 'star', 'triangle'].map(
    iconPicture,
  ),
)

/** The shape of a look as a URL for pictures, drawn in a colour. */
export function shapeURL(look: Look, ink: string): string {
  const svg = look.shape.replaceAll('currentColor', ink)
  const filled = solid.has(look.shape) ? svg.replace('fill="none"', `fill="${ink}"`) : svg
  return `data:image/svg+xml,${encodeURIComponent(filled)}`
}
