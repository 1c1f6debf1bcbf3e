import { useState } from "react";
import { useNavigate } from "react-router";
import { api } from "../../api/client";
import { mutate } from "../../api/mutate";
import { Button } from "../../components/Button";
import { Dialog } from "../../components/Dialog";
import { Field, Input } from "../../components/Field";
import { sayError } from "../../components/Toast";

/** A new brand by its name; it opens on its page, where the rest is filled in. */
export function NewBrand({ open, onClose }: { open: boolean; onClose: () => void }) {
  const [name, setName] = useState("");
  const go = useNavigate();
  async function add() {
    try {
      const made = await mutate(api.POST("/api/brands", { body: { name } }), "brands", "catalogue");
      onClose();
      setName("");
      go(`/brands/${made.key}`);
    } catch (error) {
      sayError(error);
    }
  }
  return (
    <Dialog open={open} onClose={onClose} title="A new brand" about="A client whose workflows share facts and a voice.">
      <form
        onSubmit={(e) => {
          e.preventDefault();
          add();
        }}
      >
        <Field label="Name">
          <Input autoFocus value={name} maxLength={120} onChange={(e) => setName(e.target.value)} />
        </Field>
        <div className="mt-4">
          <Button look="main" type="submit" disabled={!name.trim()}>
            Add
          </Button>
        </div>
      </form>
    </Dialog>
  );
}
