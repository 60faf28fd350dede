import { iconPicture } from '@idlebeacon/map'

const pixels = 512
const margin = 64

/** An icon as a picture file, dark on white. */
export async function iconFile(name: string): Promise<File> {
  const svg = iconPicture(name)
  const canvas = document.createElement('canvas')
  canvas.width = canvas.height = pixels
  const context = canvas.getContext('2d')
  if (svg === undefined || !context) throw new Error('This icon cannot be drawn.')
  const drawn = new Image()
  drawn.src = `data:image/svg+xml,${encodeURIComponent(svg.replaceAll('currentColor', '#1b2a31'))}`
  await drawn.decode()
  context.fillStyle = '#ffffff'
  context.fillRect(0, 0, pixels, pixels)
  context.drawImage(drawn, margin, margin, pixels - 2 * margin, pixels - 2 * margin)
  const bytes = await new Promise<Blob | null>((done) => canvas.toBlob(done, 'image/png'))
  if (!bytes) throw new Error('This icon cannot be drawn.')
  return new File([bytes], `${name}.png`, { type: 'image/png' })
}
