/** Looking at a part of a picture: how much larger, and which part. */
import { clamp } from "./position";

export interface Zoom {
  /** How many times as large as the whole in its room. */
  times: number;
  /** Where the left upper corner of the picture's room lies, in pixels of the page. */
  x: number;
  y: number;
}

export const WHOLE: Zoom = { times: 1, x: 0, y: 0 };

/** The largest. */
const MOST = 16;

/** Kept so that the room stays filled. */
function within({ times, x, y }: Zoom, [width, height]: readonly [number, number]): Zoom {
  return { times, x: clamp(x, width * (1 - times), 0), y: clamp(y, height * (1 - times), 0) };
}

/** Larger or smaller around a point of the room, which stays where it is. */
export function zoomed(zoom: Zoom, by: number, at: readonly [number, number], room: readonly [number, number]): Zoom {
  const times = clamp(zoom.times * by, 1, MOST);
  const factor = times / zoom.times;
  return within({ times, x: at[0] - (at[0] - zoom.x) * factor, y: at[1] - (at[1] - zoom.y) * factor }, room);
}

/** Drawn by so many pixels of the page. */
export function panned(zoom: Zoom, across: number, down: number, room: readonly [number, number]): Zoom {
  return within({ ...zoom, x: zoom.x + across, y: zoom.y + down }, room);
}
