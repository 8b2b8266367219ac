import type { Intent } from "../../api/client";

/** An intent at one place of the contract; the service writes the text. */
export type Want = (i: Intent) => void;

/** Where something is written. */
export type Place = { file: string; pointer: string };

export const placeOf = (at: { file?: string; pointer?: string }): Place => ({ file: at.file!, pointer: at.pointer! });
