/** The recordings that drafts were made from, until their contracts are in force and they are judged. */
export const held = new Map<number, File[]>();
