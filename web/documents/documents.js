// Documents: what its parts do, each in a module of its own.
import { startSelecting } from "./select.js";
import { startArrivals } from "./arrivals.js";
import { startGathering } from "./gather.js";
import { startFolders } from "./folders.js";
import { startPictures } from "./pictures.js";
import { startRows } from "./rows.js";

export async function start() {
  startSelecting();
  startGathering();
  startArrivals();
  startFolders();
  startPictures();
  startRows();
}
