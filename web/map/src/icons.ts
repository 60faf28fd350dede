// The built-in icons are those of the service.
const files = import.meta.glob<string>('../../../internal/core/icon/set/*.svg', {
  query: '?raw',
  import: 'default',
  eager: true,
})

const pictures = new Map<string, string>(
  Object.entries(files).map(([path, svg]) => [path.slice(path.lastIndexOf('/') + 1, -'.svg'.length), svg]),
)
const builtIn: ReadonlySet<string> = new Set(pictures.keys())
let changes = 0

/** The picture of an icon, an SVG document that is square, or undefined if there is none of this name. */
export const iconPicture = (name: string): string | undefined => pictures.get(name)

/** The names of the icons that there are. */
export const iconNames = (): string[] => [...pictures.keys()]

/** A number that grows when icons come. */
export const iconChanges = (): number => changes

/** The names of those that are not built in. */
export const ownIconNames = (): string[] => iconNames().filter((name) => !builtIn.has(name))

/**
 * Takes the icons of a sheet: an SVG document with a symbol for each, whose id is its name. They replace those of the
 * sheet before; the built-in ones stay.
 */
export function setIconSheet(sheet: string): void {
  const document = new DOMParser().parseFromString(sheet, 'image/svg+xml')
  const writer = new XMLSerializer()
  for (const name of ownIconNames()) pictures.delete(name)
  for (const symbol of document.querySelectorAll('symbol[id][viewBox]')) {
    const svg = document.createElementNS('http://www.w3.org/2000/svg', 'svg')
    for (const { name, value } of symbol.attributes) if (name !== 'id') svg.setAttribute(name, value)
    svg.setAttribute('width', '24')
    svg.setAttribute('height', '24')
    svg.append(...[...symbol.childNodes].map((n) => n.cloneNode(true)))
    if (!builtIn.has(symbol.id)) pictures.set(symbol.id, writer.serializeToString(svg))
  }
  changes++
}
