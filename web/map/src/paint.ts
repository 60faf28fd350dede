import { isDark } from './looks'

/** The colours of what is not data. */
export interface Paint {
  sea: string
  land: string
  shore: string
  line: string
  label: string
  paper: string
  ink: string
  edge: string
  focus: string
  dark: boolean // the map is
}

/** Reads the colours that the style sheets give the map, as they come out for the colour scheme of the page. */
export function readPaint(element: HTMLElement): Paint {
  const get = (name: string) => {
    element.style.color = `var(--${name})`
    return getComputedStyle(element).color
  }
  const land = get('land')
  const paint = {
    sea: get('sea'),
    land,
    shore: get('shore'),
    line: get('line'),
    label: get('label'),
    paper: get('paper'),
    ink: get('ink'),
    edge: get('edge'),
    focus: get('focus'),
    dark: isDark(land),
  }
  element.style.color = ''
  return paint
}
