/** Pictures that are pinned to a drawing: loaded once each, and drawn where they stand. */

export class Pinned {
  private images = new Map<string, HTMLImageElement>();
  constructor(
    private url: (id: string) => string,
    private again: () => void,
  ) {}

  /** Draw a picture on the line from its lower left to its lower right corner, in pixels; false while it is not here. */
  draw(g: CanvasRenderingContext2D, id: string, [ax, ay]: number[], [bx, by]: number[], [dx, dy]: number[]): boolean {
    let image = this.images.get(id);
    if (!image) {
      image = new Image();
      image.onload = this.again;
      image.onerror = () => this.images.delete(id); // asked for again when the sheet is drawn next
      image.src = this.url(id);
      this.images.set(id, image);
    }
    if (!image.complete || !image.naturalWidth) return false;
    g.save(); // x to the right along its foot, y down from its upper left corner
    g.transform(
      (bx! - ax!) / image.naturalWidth,
      (by! - ay!) / image.naturalWidth,
      (ax! - dx!) / image.naturalHeight,
      (ay! - dy!) / image.naturalHeight,
      dx!,
      dy!,
    );
    g.drawImage(image, 0, 0);
    g.restore();
    return true;
  }
}
