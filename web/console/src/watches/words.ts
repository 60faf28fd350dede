import type { Noticed, NoticeKind, WatchRule } from '../api/watches'
import { lengthText, spanText, speedText } from '../devices/words'

/** What can be noticed, with what is asked beside it. */
export const kinds: { kind: NoticeKind; label: string; area: boolean }[] = [
  { kind: 'entered', label: 'enters', area: true },
  { kind: 'left', label: 'leaves', area: true },
  { kind: 'stayed', label: 'stays longer than', area: true },
  { kind: 'fast', label: 'is faster than', area: false },
  { kind: 'silent', label: 'says nothing for', area: false },
  { kind: 'near', label: 'comes nearer to another than', area: false },
]

/** The word for a kind in lists. */
export const kindText: Record<NoticeKind, string> = {
  entered: 'Entered',
  left: 'Left',
  stayed: 'Stayed',
  fast: 'Too fast',
  silent: 'Silent',
  near: 'Near',
}

const lasted = (n: Noticed) => (n.since ? spanText((Date.parse(n.time) - Date.parse(n.since)) / 1000) : '')

/** What was noticed of a device, after its name. */
export function noticeText(n: Noticed): string {
  const circle = n.other ? `the circle of ${n.other}` : ''
  const title = n.title || n.watch
  const area = circle || (title ? `“${title}”` : 'the area')
  switch (n.kind) {
    case 'entered':
      return `entered ${area}`
    case 'left':
      return `left ${area}${lasted(n) && ` after ${lasted(n)}`}`
    case 'stayed':
      return `has been in ${area} for ${lasted(n)}`
    case 'fast':
      return `is fast: ${speedText(n.speed)}`
    case 'silent':
      return `has said nothing for ${lasted(n)}`
    case 'near':
      return `is near ${n.other ?? 'another'}`
  }
}

/** Whether that names the watch. */
export function namesWatch({ kind, other }: Noticed): boolean {
  return !other && (kind === 'entered' || kind === 'left' || kind === 'stayed')
}

/** What a rule notices, in a line. */
export function ruleText(r: WatchRule): string {
  const what = r.notices.map((k) => {
    switch (k) {
      case 'stayed':
        return `stays ${spanText(r.stayed_for ?? 0)}`
      case 'fast':
        return `is faster than ${speedText(r.faster_than)}`
      case 'silent':
        return `says nothing for ${spanText(r.silent_for ?? 0)}`
      case 'near':
        return `comes within ${lengthText(r.nearer_than ?? 0)} of another`
      case 'entered':
        return 'enters'
      case 'left':
        return 'leaves'
    }
  })
  const who = r.devices ? r.devices.join(', ') : r.groups ? `A device of ${r.groups.join(', ')}` : 'A device'
  return `${who} ${either(what)}${whereText(r)}${hoursText(r)}`
}

function either(what: string[]): string {
  return [what.slice(0, -1).join(', '), ...what.slice(-1)].filter(Boolean).join(' or ')
}

function whereText({ where: w }: WatchRule): string {
  if (!w) return ''
  const around = w.device ?? (w.item ? `${w.collection ?? ''}/${w.item}` : 'a spot')
  return w.radius ? `, within ${lengthText(w.radius)} of ${around}` : `, in ${around}`
}

function hoursText({ hours: h }: WatchRule): string {
  if (!h) return ''
  return `, ${h.from} to ${h.to}${h.days ? ` on ${h.days.join(', ')}` : ''}`
}
