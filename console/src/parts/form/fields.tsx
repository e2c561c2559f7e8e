// The fields of a form: the label above, the hint below, the error at the field, units behind the value.
import { Field, Flex, Input, NativeSelect, Textarea } from "@chakra-ui/react";
import type { ReactNode } from "react";
import { useFormState } from "./state";

type FieldProps = {
  /** Its name in the form's values and in the service's errors. */
  name: string;
  label: string;
  hint?: ReactNode;
  isRequired?: boolean;
  /** How wide it is; the whole width when not given. */
  width?: string;
};

function Frame({ name, label, hint, isRequired, width, children }: FieldProps & { children: ReactNode }) {
  const form = useFormState();
  form.show(name);
  const error = form.errors[name];
  return (
    <Field.Root invalid={error !== undefined} required={isRequired} w={width ?? "100%"} maxW="100%" data-field={name}>
      <Field.Label>
        {label}
        <Field.RequiredIndicator aria-hidden="true" />
      </Field.Label>
      {children}
      {error ? <Field.ErrorText role="alert">{error}</Field.ErrorText> : null}
      {hint ? <Field.HelperText>{hint}</Field.HelperText> : null}
    </Field.Root>
  );
}

export type TextFieldProps = FieldProps & {
  placeholder?: string;
  /** The unit behind the value. */
  unit?: string;
  /** Set in the font of code. */
  isCode?: boolean;
  type?: "text" | "password" | "datetime-local";
  inputMode?: "numeric" | "decimal";
  autoComplete?: string;
  autoFocus?: boolean;
};

export function TextField({ placeholder, unit, isCode, type, inputMode, autoComplete, autoFocus, ...frame }: TextFieldProps) {
  const form = useFormState();
  const input = (
    <Input
      size="sm"
      name={frame.name}
      type={type ?? "text"}
      inputMode={inputMode}
      autoComplete={autoComplete ?? "off"}
      autoFocus={autoFocus}
      placeholder={placeholder}
      fontFamily={isCode ? "mono" : undefined}
      value={form.values[frame.name] ?? ""}
      onChange={(event) => form.set(frame.name, event.target.value)}
    />
  );
  return (
    <Frame {...frame}>
      {unit ? (
        <Flex align="center" gap="8px" w="100%">
          {input}
          <Flex as="span" flex="none" color="quiet">
            {unit}
          </Flex>
        </Flex>
      ) : (
        input
      )}
    </Frame>
  );
}

/** Several lines. Enter makes a new one; the form is sent with Ctrl and Enter, or its button. */
export function LinesField({ placeholder, rows, ...frame }: FieldProps & { placeholder?: string; rows?: number }) {
  const form = useFormState();
  return (
    <Frame {...frame}>
      <Textarea
        size="sm"
        name={frame.name}
        rows={rows ?? 3}
        fontFamily="mono"
        placeholder={placeholder}
        value={form.values[frame.name] ?? ""}
        onChange={(event) => form.set(frame.name, event.target.value)}
        onKeyDown={(event) => {
          if (event.key === "Enter" && (event.ctrlKey || event.metaKey)) form.submit();
        }}
      />
    </Frame>
  );
}

export type Option = { value: string; label: string };

export function SelectField({ options, ...frame }: FieldProps & { options: Option[] }) {
  const form = useFormState();
  return (
    <Frame {...frame}>
      <NativeSelect.Root size="sm">
        <NativeSelect.Field
          name={frame.name}
          value={form.values[frame.name] ?? ""}
          onChange={(event) => form.set(frame.name, event.target.value)}
        >
          {options.map((option) => (
            <option key={option.value} value={option.value}>
              {option.label}
            </option>
          ))}
        </NativeSelect.Field>
        <NativeSelect.Indicator />
      </NativeSelect.Root>
    </Frame>
  );
}

/** Yes or no; its value is "yes" or empty. */
export function CheckField({ name, label, hint }: FieldProps) {
  const form = useFormState();
  form.show(name);
  const error = form.errors[name];
  return (
    <Field.Root invalid={error !== undefined} data-field={name}>
      <Flex as="label" gap="8px" align="center">
        <input
          type="checkbox"
          name={name}
          checked={form.values[name] === "yes"}
          onChange={(event) => form.set(name, event.target.checked ? "yes" : "")}
        />
        <span>{label}</span>
      </Flex>
      {error ? <Field.ErrorText role="alert">{error}</Field.ErrorText> : null}
      {hint ? <Field.HelperText>{hint}</Field.HelperText> : null}
    </Field.Root>
  );
}

/** The reader's time zone, by its name. */
export const ZONE = Intl.DateTimeFormat().resolvedOptions().timeZone;

/** A date and time in the reader's zone, which is named. */
export function MomentField({ hint, ...frame }: FieldProps) {
  const zone = `Your time zone: ${ZONE}.`;
  return <TextField {...frame} type="datetime-local" hint={hint ? <>{hint} {zone}</> : zone} />;
}

/** Fields beside each other where there is room. */
export function Row({ children }: { children: ReactNode }) {
  return (
    <Flex gap="14px" wrap="wrap" align="flex-start">
      {children}
    </Flex>
  );
}
