export { crossing, distance, lengthOf } from './measure'
export {
  complete,
  geometryOf,
  radiusOf,
  ringsOf,
  shapeOf,
  squareMetres,
  type SketchKind,
  type SketchShape,
} from './shape'
export { type Corner, Sketch, type SketchEvents } from './sketch'
export { snapToNear } from './snap'
