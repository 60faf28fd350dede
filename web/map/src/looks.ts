import circle from 'lucide-static/icons/circle.svg?raw'
import clover from 'lucide-static/icons/clover.svg?raw'
import cross from 'lucide-static/icons/cross.svg?raw'
import diamond from 'lucide-static/icons/diamond.svg?raw'
import droplet from 'lucide-static/icons/droplet.svg?raw'
import heart from 'lucide-static/icons/heart.svg?raw'
import hexagon from 'lucide-static/icons/hexagon.svg?raw'
import minus from 'lucide-static/icons/minus.svg?raw'
import moon from 'lucide-static/icons/moon.svg?raw'
import square from 'lucide-static/icons/square.svg?raw'
import star from 'lucide-static/icons/star.svg?raw'
import triangle from 'lucide-static/icons/triangle.svg?raw'

/** How the places of one category are drawn. The shape always says the same as the colour. */
export interface Look {
  colour: string
  ink: string // of the shape on the colour
  shape: string // an SVG picture, 24 units square
}

/** Colours that stay apart for colour-blind eyes (M. Okabe and K. Ito, "Color Universal Design", 2008), darkened or lightened for their ink. */
const palette: readonly (readonly [colour: string, ink: string])[] = [
  ['#0072b2', '#ffffff'],
  ['#e69f00', '#1b1b1b'],
  ['#007a5a', '#ffffff'],
  ['#cc79a7', '#1b1b1b'],
  ['#c24a00', '#ffffff'],
  ['#56b4e9', '#1b1b1b'],
  ['#6a4c93', '#ffffff'],
  ['#f0e442', '#1b1b1b'],
]

const shapes = [circle, triangle, square, star, diamond, droplet, hexagon, moon, cross, clover, heart]

/** The look of places without a category. */
export const noCategory: Look = { colour: '#5f6b76', ink: '#ffffff', shape: minus }

/**
 * Gives each of the categories a look, in their order. There are 88 different ones; with more categories than that they
 * begin again.
 */
export function looksFor(categories: readonly string[]): Map<string, Look> {
  const looks = new Map<string, Look>([['', noCategory]])
  let n = 0
  for (const category of categories) {
    if (looks.has(category)) continue
    const [colour, ink] = palette[n % palette.length] ?? ['#5f6b76', '#ffffff']
    looks.set(category, { colour, ink, shape: shapes[n % shapes.length] ?? circle })
    n++
  }
  return looks
}

/** The shape of a look as a URL for pictures, drawn in a colour. */
export function shapeURL(look: Look, ink: string): string {
  const svg = look.shape.replaceAll('currentColor', ink).replace('fill="none"', `fill="${ink}"`)
  return `data:image/svg+xml,${encodeURIComponent(svg)}`
}
