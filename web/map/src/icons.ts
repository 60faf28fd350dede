import anchorIcon from 'lucide-static/icons/anchor.svg?raw'
import banIcon from 'lucide-static/icons/ban.svg?raw'
import bedIcon from 'lucide-static/icons/bed.svg?raw'
import bellIcon from 'lucide-static/icons/bell.svg?raw'
import bikeIcon from 'lucide-static/icons/bike.svg?raw'
import bookIcon from 'lucide-static/icons/book.svg?raw'
import buildingIcon from 'lucide-static/icons/building.svg?raw'
import busIcon from 'lucide-static/icons/bus.svg?raw'
import cameraIcon from 'lucide-static/icons/camera.svg?raw'
import carIcon from 'lucide-static/icons/car.svg?raw'
import castleIcon from 'lucide-static/icons/castle.svg?raw'
import churchIcon from 'lucide-static/icons/church.svg?raw'
import circleIcon from 'lucide-static/icons/circle.svg?raw'
import cloverIcon from 'lucide-static/icons/clover.svg?raw'
import coffeeIcon from 'lucide-static/icons/coffee.svg?raw'
import crossIcon from 'lucide-static/icons/cross.svg?raw'
import diamondIcon from 'lucide-static/icons/diamond.svg?raw'
import dropletIcon from 'lucide-static/icons/droplet.svg?raw'
import dropletsIcon from 'lucide-static/icons/droplets.svg?raw'
import factoryIcon from 'lucide-static/icons/factory.svg?raw'
import fishIcon from 'lucide-static/icons/fish.svg?raw'
import flagIcon from 'lucide-static/icons/flag.svg?raw'
import flameIcon from 'lucide-static/icons/flame.svg?raw'
import flowerIcon from 'lucide-static/icons/flower.svg?raw'
import fuelIcon from 'lucide-static/icons/fuel.svg?raw'
import gaugeIcon from 'lucide-static/icons/gauge.svg?raw'
import giftIcon from 'lucide-static/icons/gift.svg?raw'
import hammerIcon from 'lucide-static/icons/hammer.svg?raw'
import heartIcon from 'lucide-static/icons/heart.svg?raw'
import hexagonIcon from 'lucide-static/icons/hexagon.svg?raw'
import hospitalIcon from 'lucide-static/icons/hospital.svg?raw'
import houseIcon from 'lucide-static/icons/house.svg?raw'
import infoIcon from 'lucide-static/icons/info.svg?raw'
import keyIcon from 'lucide-static/icons/key.svg?raw'
import lampIcon from 'lucide-static/icons/lamp.svg?raw'
import landmarkIcon from 'lucide-static/icons/landmark.svg?raw'
import leafIcon from 'lucide-static/icons/leaf.svg?raw'
import libraryIcon from 'lucide-static/icons/library.svg?raw'
import lightbulbIcon from 'lucide-static/icons/lightbulb.svg?raw'
import lockIcon from 'lucide-static/icons/lock.svg?raw'
import mailIcon from 'lucide-static/icons/mail.svg?raw'
import mapIcon from 'lucide-static/icons/map.svg?raw'
import minusIcon from 'lucide-static/icons/minus.svg?raw'
import moonIcon from 'lucide-static/icons/moon.svg?raw'
import mountainIcon from 'lucide-static/icons/mountain.svg?raw'
import musicIcon from 'lucide-static/icons/music.svg?raw'
import packageIcon from 'lucide-static/icons/package.svg?raw'
import phoneIcon from 'lucide-static/icons/phone.svg?raw'
import planeIcon from 'lucide-static/icons/plane.svg?raw'
import plugIcon from 'lucide-static/icons/plug.svg?raw'
import plugZapIcon from 'lucide-static/icons/plug-zap.svg?raw'
import recycleIcon from 'lucide-static/icons/recycle.svg?raw'
import routeIcon from 'lucide-static/icons/route.svg?raw'
import sailboatIcon from 'lucide-static/icons/sailboat.svg?raw'
import schoolIcon from 'lucide-static/icons/school.svg?raw'
import shieldIcon from 'lucide-static/icons/shield.svg?raw'
import shipIcon from 'lucide-static/icons/ship.svg?raw'
import shovelIcon from 'lucide-static/icons/shovel.svg?raw'
import signpostIcon from 'lucide-static/icons/signpost.svg?raw'
import squareIcon from 'lucide-static/icons/square.svg?raw'
import starIcon from 'lucide-static/icons/star.svg?raw'
import storeIcon from 'lucide-static/icons/store.svg?raw'
import sunIcon from 'lucide-static/icons/sun.svg?raw'
import tentIcon from 'lucide-static/icons/tent.svg?raw'
import toiletIcon from 'lucide-static/icons/toilet.svg?raw'
import towerControlIcon from 'lucide-static/icons/tower-control.svg?raw'
import trainFrontIcon from 'lucide-static/icons/train-front.svg?raw'
import trashIcon from 'lucide-static/icons/trash.svg?raw'
import treesIcon from 'lucide-static/icons/trees.svg?raw'
import triangleIcon from 'lucide-static/icons/triangle.svg?raw'
import triangleAlertIcon from 'lucide-static/icons/triangle-alert.svg?raw'
import umbrellaIcon from 'lucide-static/icons/umbrella.svg?raw'
import usersIcon from 'lucide-static/icons/users.svg?raw'
import utensilsIcon from 'lucide-static/icons/utensils.svg?raw'
import warehouseIcon from 'lucide-static/icons/warehouse.svg?raw'
import wavesIcon from 'lucide-static/icons/waves.svg?raw'
import wifiIcon from 'lucide-static/icons/wifi.svg?raw'
import windIcon from 'lucide-static/icons/wind.svg?raw'
import wrenchIcon from 'lucide-static/icons/wrench.svg?raw'

/** The pictures of the icons, each an SVG 24 units square, by name. The service knows the same names. */
export const icons: Readonly<Record<string, string>> = {
  anchor: anchorIcon,
  ban: banIcon,
  bed: bedIcon,
  bell: bellIcon,
  bike: bikeIcon,
  book: bookIcon,
  building: buildingIcon,
  bus: busIcon,
  camera: cameraIcon,
  car: carIcon,
  castle: castleIcon,
  church: churchIcon,
  circle: circleIcon,
  clover: cloverIcon,
  coffee: coffeeIcon,
  cross: crossIcon,
  diamond: diamondIcon,
  droplet: dropletIcon,
  droplets: dropletsIcon,
  factory: factoryIcon,
  fish: fishIcon,
  flag: flagIcon,
  flame: flameIcon,
  flower: flowerIcon,
  fuel: fuelIcon,
  gauge: gaugeIcon,
  gift: giftIcon,
  hammer: hammerIcon,
  heart: heartIcon,
  hexagon: hexagonIcon,
  hospital: hospitalIcon,
  house: houseIcon,
  info: infoIcon,
  key: keyIcon,
  lamp: lampIcon,
  landmark: landmarkIcon,
  leaf: leafIcon,
  library: libraryIcon,
  lightbulb: lightbulbIcon,
  lock: lockIcon,
  mail: mailIcon,
  map: mapIcon,
  minus: minusIcon,
  moon: moonIcon,
  mountain: mountainIcon,
  music: musicIcon,
  package: packageIcon,
  phone: phoneIcon,
  plane: planeIcon,
  plug: plugIcon,
  'plug-zap': plugZapIcon,
  recycle: recycleIcon,
  route: routeIcon,
  sailboat: sailboatIcon,
  school: schoolIcon,
  shield: shieldIcon,
  ship: shipIcon,
  shovel: shovelIcon,
  signpost: signpostIcon,
  square: squareIcon,
  star: starIcon,
  store: storeIcon,
  sun: sunIcon,
  tent: tentIcon,
  toilet: toiletIcon,
  'tower-control': towerControlIcon,
  'train-front': trainFrontIcon,
  trash: trashIcon,
  trees: treesIcon,
  triangle: triangleIcon,
  'triangle-alert': triangleAlertIcon,
  umbrella: umbrellaIcon,
  users: usersIcon,
  utensils: utensilsIcon,
  warehouse: warehouseIcon,
  waves: wavesIcon,
  wifi: wifiIcon,
  wind: windIcon,
  wrench: wrenchIcon,
}
