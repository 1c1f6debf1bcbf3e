import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { TimesForm } from "../../components/Wants";

/** For whoever answers by a signed link: how to be told of what waits. */
export function HowToBeTold({ token }: { token: string }) {
  const [open, setOpen] = useState(false);
  const times = useQuery({ ...reads.letterTimes(token), enabled: open });
  const path = { params: { path: { token } } };
  return (
    <section className="mt-6 border-t border-line pt-2">
      <button
        type="button"
        aria-expanded={open}
        className="w-full py-2 text-left text-sm"
        onClick={() => setOpen(!open)}
      >
        How you are told {open ? "▴" : "▾"}
      </button>
      {open && times.data && (
        <div className="max-w-md pt-2">
          <TimesForm
            times={times.data}
            save={async (body) => {
              await mutate(api.PUT("/api/letters/{token}/times", { ...path, body }), "nothing");
            }}
          />
        </div>
      )}
    </section>
  );
}
