import { type ReactNode, useCallback, useRef, useState } from "react";
import { api, type Schemas } from "../../api/client";
import { type News, useNews } from "../../api/live";
import { mutate } from "../../api/mutate";
import { Button } from "../../components/Button";
import { say, sayError } from "../../components/Toast";
import { count } from "../../components/words";

/** A file of rows, into a sheet or into a new one: its first line names the columns. */
export function BringIn({
  into = "",
  name = "",
  brand = "",
  onDone,
  children,
}: {
  into?: string;
  name?: string;
  brand?: string;
  onDone?: (sheet: Schemas["SheetView"]) => void;
  children: ReactNode;
}) {
  const input = useRef<HTMLInputElement>(null);
  const [busy, setBusy] = useState(false);
  const [read, setRead] = useState(0);
  const mark = useRef(Math.random().toString(36).slice(2));
  useNews(
    useCallback((news: News) => {
      if (news.topic === "bringing" && news.mark === mark.current) setRead(news.rows);
    }, []),
  );

  async function bring(file: File) {
    setBusy(true);
    setRead(0);
    const form = new FormData();
    form.set("mark", mark.current);
    form.set("file", file);
    form.set("into", into);
    form.set("name", name);
    form.set("brand", brand);
    try {
      const made = await mutate(
        api.POST("/api/sheets/file", {
          body: { file: "", into, name, brand, mark: mark.current },
          bodySerializer: () => form,
        }),
        "sheets",
        "sheet",
        "catalogue",
      );
      say([`${count(made.added, "row")} brought in.`, ...made.notes].join(" "));
      onDone?.(made);
    } catch (error) {
      sayError(error);
    }
    setBusy(false);
  }

  return (
    <>
      <Button
        look="quiet"
        disabled={busy}
        title="CSV, XLSX, ODS, or a list of feeds (OPML)"
        onClick={() => input.current?.click()}
      >
        {busy ? (read ? `Reading, ${count(read, "row")} …` : "Reading …") : children}
      </Button>
      <input
        ref={input}
        type="file"
        accept=".csv,.tsv,.xlsx,.ods,.opml,.xml"
        className="hidden"
        aria-label="A file of rows"
        onChange={(event) => {
          const file = event.target.files?.[0];
          if (file) bring(file);
          event.target.value = "";
        }}
      />
    </>
  );
}
