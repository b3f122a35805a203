/** Points of a section as pixels of the sheet. */
import type { P } from "./pen";

interface Place {
  middle: P;
  scale: number; // of the unit of the points, a pixel
}

/** The number of the pixel (w, h) that each point (along, across) of these falls on; nothing for those beside it. */
function each(
  image: ImageData,
  points: Float32Array,
  { middle, scale }: Place,
  then: (pixel: number, point: number) => void,
) {
  const { width: w, height: h } = image;
  for (let k = 0; k < points.length; k += 2) {
    const x = Math.round(w / 2 + (points[k]! - middle[0]) / scale);
    const y = Math.round(h / 2 - (points[k + 1]! - middle[1]) / scale);
    if (x >= 0 && y >= 0 && x < w && y < h) then(y * w + x, k / 2);
  }
}

/** The more points on a pixel, the darker. */
export function dense(image: ImageData, points: Float32Array, place: Place) {
  const count = new Uint16Array(image.width * image.height);
  each(image, points, place, (o) => count[o]!++);
  for (let o = 0; o < count.length; o++) {
    if (!count[o]) continue;
    const v = Math.max(105, 205 - 30 * Math.log2(1 + count[o]!));
    image.data[4 * o] = v;
    image.data[4 * o + 1] = v + 4;
    image.data[4 * o + 2] = v + 10;
  }
}

/** colours: red, green, blue and intensity of each point. */
export function coloured(image: ImageData, points: Float32Array, colours: Uint8Array, place: Place, grey: boolean) {
  each(image, points, place, (o, n) => {
    for (let j = 0; j < 3; j++) image.data[4 * o + j] = colours[4 * n + (grey ? 3 : j)]!;
  });
}
