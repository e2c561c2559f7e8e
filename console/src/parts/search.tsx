// The search box of a list. What is looked for stands in the address, so that a link shows what was seen.
import { Input } from "@chakra-ui/react";
import { useEffect, useRef, useState } from "react";
import { useSearchParams } from "react-router";

/** How long after the last letter the address changes, in ms. */
const PAUSE = 200;

/** What is looked for, by its name in the address. */
export function useSearch(name = "search"): string {
  const [params] = useSearchParams();
  return params.get(name)?.trim() ?? "";
}

/** Whether a text contains what is looked for, in upper or lower case. */
export const contains = (search: string, ...texts: (string | null | undefined)[]) =>
  search === "" || texts.some((text) => text?.toLowerCase().includes(search.toLowerCase()));

type SearchBoxProps = {
  /** Its name for screen readers: a verb and what is searched. */
  label: string;
  placeholder: string;
  name?: string;
  width?: string;
  /** The box that the key / leads to; one on a page. */
  isMain?: boolean;
  /** What a new search begins without, of the address. */
  drop?: string[];
};

export function SearchBox({ label, placeholder, name = "search", width = "22em", isMain = true, drop = [] }: SearchBoxProps) {
  const [params, setParams] = useSearchParams();
  const inAddress = params.get(name) ?? "";
  const [typed, setTyped] = useState(inAddress);
  const sent = useRef(inAddress);
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  useEffect(() => {
    // The address changed by itself: a link, or the browser's back.
    if (inAddress !== sent.current) {
      sent.current = inAddress;
      setTyped(inAddress);
    }
  }, [inAddress]);
  useEffect(() => () => clearTimeout(timer.current), []);
  const look = (text: string) => {
    setTyped(text);
    clearTimeout(timer.current);
    timer.current = setTimeout(() => {
      sent.current = text;
      setParams(
        (now) => {
          for (const other of drop) now.delete(other);
          if (text) now.set(name, text);
          else now.delete(name);
          return now;
        },
        { replace: true },
      );
    }, PAUSE);
  };
  return (
    <Input
      type="search"
      size="sm"
      data-filter={isMain ? true : undefined}
      aria-label={label}
      placeholder={placeholder}
      bg="sheet"
      w={{ base: "100%", sm: width }}
      value={typed}
      onChange={(event) => look(event.target.value)}
      onKeyDown={(event) => {
        if (event.key === "Escape") look("");
      }}
    />
  );
}
