/** The beginning of the address of a file kept here, whatever name the house goes by outside. */
export const KEPT = /^https?:\/\/[^/]+\/api\/files\//;

/** Where a picture is to be fetched from. */
export const kept = (link: string) => link.replace(KEPT, "/api/files/");
