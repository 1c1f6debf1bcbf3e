import { createContext, useCallback, useContext } from "react";

/** The beginning of the address of a file kept here, whatever name the house goes by outside. */
export const KEPT = /^https?:\/\/[^/]+\/api\/files\//;

/** Where kept files are fetched: elsewhere for a person without an account. */
export const FilesAt = createContext("/api/files/");

/** Where a kept file is to be fetched from. */
export function useKept(): (link: string) => string {
  const place = useContext(FilesAt);
  return useCallback((link) => link.replace(KEPT, place), [place]);
}
