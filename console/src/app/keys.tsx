// The keyboard: / to filter, g and a letter to go to a place, ? for the list.
import { Box } from "@chakra-ui/react";
import { useEffect, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { Modal } from "../parts/form/Form";

/** The places, and the other addresses whose pages belong to them. */
export const PLACES = [
  { word: "Now", path: "/", key: "n", pages: ["/alerts"] },
  { word: "Queue", path: "/queue", key: "q", pages: [] },
  { word: "Yard", path: "/yard", key: "y", pages: ["/pools", "/runners"] },
  { word: "Runs", path: "/runs", key: "r", pages: ["/jobs"] },
  { word: "Trends", path: "/trends", key: "t", pages: [] },
];

/** Stands apart from the places in the top row. */
const SETTINGS = { word: "Settings", path: "/settings", key: "s" };

/** Whether keys belong to what has the focus: a field, or a dialog. */
const writes = (target: EventTarget | null) =>
  target instanceof HTMLElement &&
  (target.isContentEditable || target.closest("[role=dialog], [role=alertdialog]") || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName));

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
        const place = [...PLACES, SETTINGS].find((one) => one.key === event.key);
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
      }
    };
    addEventListener("keydown", press);
    return () => removeEventListener("keydown", press);
  }, [navigate]);
  return { shown, show };
}

export function KeyList({ close }: { close: () => void }) {
  return (
    <Modal title="Keyboard shortcuts" close={close} width="380px">
      <Box as="dl" display="grid" gridTemplateColumns="5em 1fr" rowGap="6px">
        {[...PLACES, SETTINGS].map((place) => [
          <dt key={place.key}>g {place.key}</dt>,
          <dd key={place.path}>Go to {place.word}</dd>,
        ])}
        <dt>/</dt>
        <dd>Search the list</dd>
        <dt>?</dt>
        <dd>Show this list</dd>
        <dt>Esc</dt>
        <dd>Close a dialog</dd>
      </Box>
    </Modal>
  );
}
