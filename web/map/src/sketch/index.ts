export { crossing, distance, lengthOf } from './measure'
export {
  circleAround,
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
