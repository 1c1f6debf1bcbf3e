import { useState } from "react";
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import { Button } from "../../components/Button";
import { Dialog } from "../../components/Dialog";
import { say, sayError } from "../../components/Toast";
import { Whose } from "../../components/Whose";

/** Whose a sheet is: who is kept to other brands does not see it. */
export function WhoseDialog({ sheet, onClose }: { sheet: Schemas["SheetView"]; onClose: () => void }) {
  const [brand, setBrand] = useState(sheet.brand ?? "");

  async function keep() {
    try {
      await mutate(
        api.PUT("/api/sheets/{key}/brand", { params: { path: { key: sheet.key } }, body: { brand } }),
        "sheets",
      );
      say("Kept.");
      onClose();
    } catch (error) {
      sayError(error);
    }
  }

  return (
    <Dialog open onClose={onClose} title={`Whose ${sheet.name} is`}>
      <Whose
        value={brand}
        all="the house’s"
        help="Members who are kept to other brands do not see it. The house’s is seen by those who see all of it."
        onChange={setBrand}
      />
      <div className="mt-4 flex gap-2">
        <Button look="main" onClick={keep}>
          Keep
        </Button>
        <Button look="quiet" onClick={onClose}>
          Leave it
        </Button>
      </div>
    </Dialog>
  );
}
