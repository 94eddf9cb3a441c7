/** The canvas painter for many elements: plain strokes, culled, no symbols. */
import type { View } from './geometry'
import type { Shapes } from './Painter'
import type { Paint } from './paint'

export function paintCanvas(
  context: CanvasRenderingContext2D,
  shapes: Shapes,
  paint: Paint,
  view: View,
  width: number,
  height: number,
  dead: string,
) {
  const ratio = devicePixelRatio || 1
  context.setTransform(ratio, 0, 0, ratio, 0, 0)
  context.clearRect(0, 0, width, height)
  const { k, x, y } = view
  const batches = new Map<string, Path2D>()
  const batch = (colour: string) => {
    const found = batches.get(colour)
    if (found) return found
    const path = new Path2D()
    batches.set(colour, path)
    return path
  }
  for (const branch of shapes.branches) {
    const path = batch(paint.live(branch.id) ? paint.branch(branch.id) : dead)
    branch.points.forEach((p, i) => {
      if (i) path.lineTo(p.x * k + x, p.y * k + y)
      else path.moveTo(p.x * k + x, p.y * k + y)
    })
  }
  context.lineWidth = 1.2
  for (const [colour, path] of batches) {
    context.strokeStyle = colour
    context.stroke(path)
  }
  batches.clear()
  for (const bus of shapes.buses) {
    const path = batch(paint.live(bus.id) ? paint.bus(bus.id) : dead)
    const half = Math.max(bus.half * k, 1)
    const cx = bus.x * k + x
    const cy = bus.y * k + y
    path.moveTo(bus.upright ? cx : cx - half, bus.upright ? cy - half : cy)
    path.lineTo(bus.upright ? cx : cx + half, bus.upright ? cy + half : cy)
  }
  context.lineWidth = Math.min(4, Math.max(1.5, 8 * k))
  for (const [colour, path] of batches) {
    context.strokeStyle = colour
    context.stroke(path)
  }
}
