// What a form can say of a new password before it is sent. The service has the last word.
import type { Errors } from "./form/state";

export const PASSWORD_HINT = "12 characters or more. Several words that have nothing to do with each other are good.";

/** What is wrong with a new password that was typed twice; `name` is the first field's. */
export function checkPassword(name: string, password = "", again = ""): Errors {
  const isShort = [...password].length < 12;
  return {
    [name]: isShort ? "Enter 12 characters or more." : undefined,
    again: !isShort && again !== password ? "The two are different." : undefined,
  };
}
