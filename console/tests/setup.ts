// A busy machine may take long: what is waited for is waited for patiently.
import { configure } from "@testing-library/react";

configure({ asyncUtilTimeout: 30_000 });
