import { api } from "../api/client";
import { mutate } from "../api/mutate";
import { Button } from "./Button";
import { sayError } from "./Toast";

/** The three things one can say of a piece in doubt. */
export function Doubt({ id }: { id: number }) {
  const decide = (choice: string) => async () => {
    try {
      await mutate(api.POST("/api/pieces/{id}/decide", { params: { path: { id } }, body: { choice } }), "everything");
    } catch (error) {
      sayError(error);
    }
  };
  return (
    <>
      <Button onClick={decide("sent")}>It is out</Button>
      <Button onClick={decide("again")}>It is not: send again</Button>
      <Button look="quiet" onClick={decide("drop")}>
        Drop it
      </Button>
    </>
  );
}
