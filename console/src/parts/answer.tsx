// The answer line: one plain sentence, its parts links to what they name; below it the figures that prove it.
import { Box, Flex } from "@chakra-ui/react";
import type { ReactNode } from "react";
import { Link } from "react-router";
import type { Schemas } from "../api/client";

type SentencePart = Schemas["SentencePart"];

function where(link: NonNullable<SentencePart["link"]>): string {
  switch (link.kind) {
    case "queue":
      return "/queue";
    case "yard":
      return "/yard";
    case "job":
      return `/jobs/${link.name}`;
  }
}

export function AnswerLine({ pieces }: { pieces: SentencePart[] }) {
  return (
    <Box as="h1" fontSize={{ base: "19px", md: "23px" }} lineHeight="1.35" fontWeight="500" maxW="62em" data-testid="answer" aria-live="polite">
      {pieces.map((piece, i) =>
        piece.link ? (
          <Link key={i} to={where(piece.link)}>
            {piece.text}
          </Link>
        ) : (
          <span key={i}>{piece.text}</span>
        ),
      )}
    </Box>
  );
}

/** A sentence of a page's own, set like the answer line. */
export function Lead({ children }: { children: ReactNode }) {
  return (
    <Box as="h1" fontSize={{ base: "19px", md: "23px" }} lineHeight="1.35" fontWeight="500" maxW="62em">
      {children}
    </Box>
  );
}

export function Figures({ figures }: { figures: [string, ReactNode][] }) {
  return (
    <Flex as="dl" columnGap={{ base: "24px", md: "36px" }} rowGap="8px" wrap="wrap" mt="14px" mb="22px">
      {figures.map(([name, value]) => (
        <Box key={name}>
          <Box as="dt" color="quiet" fontSize="13px">
            {name}
          </Box>
          <Box as="dd" fontSize={{ base: "20px", md: "25px" }} lineHeight="1.2" fontVariantNumeric="tabular-nums">
            {value}
          </Box>
        </Box>
      ))}
    </Flex>
  );
}
