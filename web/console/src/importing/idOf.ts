// Letters that no sign can be taken off.
const folded: Record<string, string> = {
  ß: 'ss',
  æ: 'ae',
  œ: 'oe',
  ø: 'o',
  ð: 'd',
  đ: 'd',
  þ: 'th',
  ł: 'l',
  ı: 'i',
}

/** The id that a title makes: its letters without their signs, and hyphens between the words; "" if nothing is left. */
export function idOf(title: string): string {
  return title
    .toLowerCase()
    .normalize('NFKD')
    .replace(/\p{M}/gu, '')
    .replace(/[^a-z0-9]/g, (c) => folded[c] ?? c)
    .replace(/[^a-z0-9]+/g, '-')
    .slice(0, 60)
    .replace(/^-+|-+$/g, '')
}
