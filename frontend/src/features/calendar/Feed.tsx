import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api } from "../../api/client";
import { mutate } from "../../api/mutate";
import * as reads from "../../api/reads";
import { Button } from "../../components/Button";
import { Dialog } from "../../components/Dialog";
import { Field, Input } from "../../components/Field";
import { sayError } from "../../components/Toast";

/** The calendar for other calendar programs, at a secret address that can be made void. */
export function Feed() {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Button look="quiet" onClick={() => setOpen(true)}>
        As a feed …
      </Button>
      {open && <FeedDialog onClose={() => setOpen(false)} />}
    </>
  );
}

function FeedDialog({ onClose }: { onClose: () => void }) {
  const found = useQuery(reads.calendarFeed());
  const set = (address: boolean) => async () => {
    try {
      if (address) await mutate(api.POST("/api/calendar/feed"), ["calendar", "feed"]);
      else await mutate(api.DELETE("/api/calendar/feed"), ["calendar", "feed"]);
    } catch (error) {
      sayError(error);
    }
  };
  return (
    <Dialog
      open
      onClose={onClose}
      title="The calendar as a feed"
      about="Other calendar programs can read it (iCalendar, RFC 5545). Whoever has the address can see what waits and what went out."
    >
      {found.data?.address ? (
        <div className="space-y-3">
          <Field label="Its secret address">
            <Input readOnly value={found.data.address} onFocus={(e) => e.target.select()} />
          </Field>
          <div className="flex gap-2">
            <Button onClick={set(true)}>Give it another address</Button>
            <Button look="quiet" onClick={set(false)}>
              Close it
            </Button>
          </div>
        </div>
      ) : (
        <Button look="main" onClick={set(true)}>
          Make an address
        </Button>
      )}
    </Dialog>
  );
}
