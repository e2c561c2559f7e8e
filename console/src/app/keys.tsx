// The keyboard: / to filter, g and a letter to go to a place, ? for the list.
import { Box, Button } from "@chakra-ui/react";
import { useEffect, useRef, useState } from "react";
import { useNavigate } from "react-router";

export const PLACES = [
  { word: "Now", path: "/", key: "n" },
  { word: "Queue", path: "/queue", key: "q" },
  { word: "Yard", path: "/yard", key: "y" },
  { word: "Runs", path: "/runs", key: "r" },
  { word: "Trends", path: "/trends", key: "t" },
];

const writes = (target: EventTarget | null) =>
  target instanceof HTMLElement && (target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName));

export function useKeys() {
  const navigate = useNavigate();
  const [shown, show] = useState(false);
  const went = useRef(0);
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      if (event.ctrlKey || event.metaKey || event.altKey || writes(event.target)) return;
      if (event.key === "g") {
        went.current = Date.now();
        return;
      }
      if (Date.now() - went.current < 1500) {
        const place = PLACES.find((one) => one.key === event.key);
        went.current = 0;
        if (place) {
          event.preventDefault();
          void navigate(place.path);
        }
        return;
      }
      if (event.key === "/") {
        const filter = document.querySelector<HTMLInputElement>("[data-filter]");
        if (filter) {
          event.preventDefault();
          filter.focus();
        }
      } else if (event.key === "?") {
        show(true);
      } else if (event.key === "Escape") {
        show(false);
      }
    };
    addEventListener("keydown", press);
    return () => removeEventListener("keydown", press);
  }, [navigate]);
  return { shown, show };
}

export function KeyList({ shown, close }: { shown: boolean; close: () => void }) {
  const dialog = useRef<HTMLDialogElement>(null);
  useEffect(() => {
    if (shown) dialog.current?.showModal();
    else dialog.current?.close();
  }, [shown]);
  return (
    <Box asChild bg="sheet" color="ink" p="22px" borderRadius="4px" border="1px solid" borderColor="rule" m="auto">
      <dialog ref={dialog} onClose={close} aria-label="Keyboard shortcuts">
        <Box as="dl" display="grid" gridTemplateColumns="5em 1fr" rowGap="6px" mb="14px">
          {PLACES.map((place) => [
            <dt key={place.key}>g {place.key}</dt>,
            <dd key={place.path}>go to {place.word}</dd>,
          ])}
          <dt>/</dt>
          <dd>filter the list</dd>
          <dt>?</dt>
          <dd>this list</dd>
        </Box>
        <Button size="xs" variant="outline" borderColor="rule" color="ink" onClick={close}>
          Close
        </Button>
      </dialog>
    </Box>
  );
}
