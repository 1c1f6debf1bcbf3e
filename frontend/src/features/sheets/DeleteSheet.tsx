import { useNavigate } from "react-router";
import { api, type Schemas } from "../../api/client";
import { mutate } from "../../api/mutate";
import { Button } from "../../components/Button";
import { Dialog } from "../../components/Dialog";
import { say, sayError } from "../../components/Toast";
import { count } from "../../components/words";

/** Deleting a sheet cannot be taken back: it is asked once more, and can be saved as a file first. */
export function DeleteSheet({ sheet, onClose }: { sheet: Schemas["SheetView"]; onClose: () => void }) {
  const go = useNavigate();
  async function remove() {
    try {
      await mutate(api.DELETE("/api/sheets/{key}", { params: { path: { key: sheet.key } } }), "sheets");
      say(`“${sheet.name}” is deleted.`);
      go("/sheets");
    } catch (error) {
      sayError(error);
    }
    onClose();
  }
  return (
    <Dialog
      open
      onClose={onClose}
      title={`Delete “${sheet.name}”?`}
      about={`Its ${count(sheet.rows, "row")}, their history, its views and keys are gone for good.${
        sheet.outside ? " The file elsewhere stays as it is." : ""
      }`}
    >
      <div className="flex flex-wrap items-center gap-2">
        <Button look="wrong" onClick={remove}>
          Delete it
        </Button>
        <Button look="quiet" autoFocus onClick={onClose}>
          Keep it
        </Button>
        <a
          href={`/api/sheets/${sheet.key}/file/xlsx`}
          download
          className="ml-auto text-sm text-leaf underline underline-offset-2"
        >
          Save it as a file first
        </a>
      </div>
    </Dialog>
  );
}
