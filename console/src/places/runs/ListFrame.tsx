// What the lists of runs and of jobs share: which of the two, search, project, older pages, and submitting a job.
import { Box, Button, Flex } from "@chakra-ui/react";
import { Suspense, lazy, useState } from "react";
import type { ReactNode } from "react";
import { NavLink, useSearchParams } from "react-router";
import { useMay } from "../../api/may";
import { Lead } from "../../parts/answer";
import { SearchBox } from "../../parts/search";
import { Awaiting } from "../../parts/trouble";

const SubmitJob = lazy(() => import("./SubmitJob").then(({ SubmitJob }) => ({ default: SubmitJob })));

/** What the address says beside the search, and how it is changed: another list begins with its newest entries. */
export function useListAddress() {
  const [params, setParams] = useSearchParams();
  const look = (changes: Record<string, string | null>) =>
    setParams((now) => {
      for (const [name, value] of Object.entries({ after: null, ...changes })) {
        if (value) now.set(name, value);
        else now.delete(name);
      }
      return now;
    });
  const { state = "", project = "", after } = Object.fromEntries(params);
  return { state, project, after, look };
}

const LISTS = [
  { word: "Runs", path: "/runs" },
  { word: "Jobs", path: "/jobs" },
];

export function ListFrame({ lead, search, next, children }: {
  lead: string;
  search: { label: string; placeholder: string };
  /** The cursor of older entries. */
  next: string | null | undefined;
  children: ReactNode;
}) {
  const { project, after, look } = useListAddress();
  const may = useMay();
  const [submitting, setSubmitting] = useState(false);
  return (
    <>
      <Flex align="center" columnGap="18px" rowGap="10px" wrap="wrap">
        <Lead>{lead}</Lead>
        <Flex as="nav" aria-label="Lists" gap="14px">
          {LISTS.map(({ word, path }) => (
            <NavLink key={path} to={path}>
              {({ isActive }) => (
                <Box as="span" fontWeight={isActive ? "600" : "400"}>
                  {word}
                </Box>
              )}
            </NavLink>
          ))}
        </Flex>
        <Box flex="1" />
        <SearchBox {...search} drop={["after"]} />
        {may("submitter") ? (
          <Button size="sm" variant="solid" onClick={() => setSubmitting(true)}>
            Submit a job
          </Button>
        ) : null}
      </Flex>
      {project ? (
        <Flex gap="10px" mt="10px" align="center">
          <span>Only {project}</span>
          <Button onClick={() => look({ project: null })}>All projects</Button>
        </Flex>
      ) : null}
      {submitting ? (
        <Suspense fallback={<Awaiting what="the form" />}>
          <SubmitJob close={() => setSubmitting(false)} />
        </Suspense>
      ) : null}
      {children}
      <Flex gap="12px" mt="12px">
        {after ? <Button onClick={() => look({})}>Newest</Button> : null}
        {next ? <Button onClick={() => look({ after: next })}>Older</Button> : null}
      </Flex>
    </>
  );
}
