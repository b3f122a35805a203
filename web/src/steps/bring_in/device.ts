/** What the panels of instruments share. */
import type { Schemas } from "../../api/client";

export type Device = Schemas["DeviceOut"];
export const path = (id: string, device: Device) => ({ params: { path: { project_id: id, name: device.name } } });
