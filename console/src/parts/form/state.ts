// The state of a form: what was typed, what is wrong with it, and the request that saves it. What was typed stays until it is
// saved.
import { useMutation } from "@tanstack/react-query";
import { createContext, useContext, useRef, useState } from "react";
import { Problem } from "../../api/client";

export type Values = Record<string, string>;
/** What is wrong, by the field's name. */
export type Errors = Record<string, string | undefined>;

type FormOptions<T> = {
  initial: Values;
  /** What is wrong before anything is sent. */
  check?: (values: Values) => Errors;
  send: (values: Values) => Promise<T>;
  done?: (result: T, values: Values) => unknown;
};

export type FormState = {
  values: Values;
  errors: Errors;
  /** The error that belongs to no field, where the last request failed. */
  failure: unknown;
  isPending: boolean;
  set: (name: string, value: string) => void;
  /** Notes that a field of this name is shown, so that its errors stand at it. */
  show: (name: string) => void;
  submit: () => void;
  reset: () => void;
  element: React.RefObject<HTMLFormElement | null>;
};

/** The path of a field as the service names it, without the parts that a form does not show. */
const fieldOf = (path: string) => path.replace(/^supply\./, "").replace(/_us$/, "");

export function useForm<T>({ initial, check, send, done }: FormOptions<T>): FormState {
  const [values, setValues] = useState(initial);
  const [wrong, setWrong] = useState<Errors>({});
  const shown = useRef(new Set<string>());
  const element = useRef<HTMLFormElement>(null);
  const focus = (names: (string | undefined)[]) => {
    for (const field of element.current?.elements ?? []) {
      if (field instanceof HTMLElement && names.includes(field.getAttribute("name") ?? undefined)) return field.focus();
    }
  };
  const request = useMutation({
    mutationFn: () => send(values),
    onSuccess: (result) => done?.(result, values),
    onError: (error) => {
      if (error instanceof Problem && error.body.field) focus([fieldOf(error.body.field)]);
    },
  });
  const refused = request.error instanceof Problem ? request.error : undefined;
  const at = refused?.body.field ? fieldOf(refused.body.field) : undefined;
  const errors: Errors = { ...wrong };
  if (refused && at && shown.current.has(at)) {
    errors[at] = [refused.message, refused.body.remedy].filter(Boolean).join(". ");
  }
  return {
    values,
    errors,
    failure: at && shown.current.has(at) ? undefined : request.error,
    isPending: request.isPending,
    set: (name, value) => {
      setValues((now) => ({ ...now, [name]: value }));
      setWrong((now) => ({ ...now, [name]: undefined }));
      if (at === name) request.reset();
    },
    show: (name) => shown.current.add(name),
    submit: () => {
      const found = check?.(values) ?? {};
      setWrong(found);
      const names = Object.keys(found).filter((name) => found[name]);
      if (names.length > 0) focus(names);
      else request.mutate();
    },
    reset: () => {
      setValues(initial);
      setWrong({});
      request.reset();
    },
    element,
  };
}

export const FormContext = createContext<FormState | null>(null);

/** The form around a field. */
export function useFormState(): FormState {
  const form = useContext(FormContext);
  if (!form) throw new Error("a field stands outside of a form");
  return form;
}
