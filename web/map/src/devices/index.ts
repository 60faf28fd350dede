export { Devices, type Trail } from './devices'
