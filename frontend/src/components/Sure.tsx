import { type ReactNode, useState } from "react";
import { Button } from "./Button";
import { Dialog } from "./Dialog";

/** A button for what cannot be brought back: it asks once more, and says what is lost. */
export function Sure({
  children,
  question,
  lost,
  yes,
  disabled,
  onYes,
}: {
  children: ReactNode;
  question: string;
  lost: string;
  yes: string;
  disabled?: boolean;
  onYes: () => void;
}) {
  const [asking, setAsking] = useState(false);
  return (
    <>
      <Button look="quiet" disabled={disabled} onClick={() => setAsking(true)}>
        {children}
      </Button>
      {asking && (
        <Dialog open onClose={() => setAsking(false)} title={question} about={lost}>
          <div className="flex gap-2">
            <Button
              look="wrong"
              onClick={() => {
                setAsking(false);
                onYes();
              }}
            >
              {yes}
            </Button>
            <Button look="quiet" autoFocus onClick={() => setAsking(false)}>
              Keep it
            </Button>
          </div>
        </Dialog>
      )}
    </>
  );
}
