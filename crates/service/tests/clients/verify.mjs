// Verifies a job's identity token as an outside service would: with an OpenID client for JavaScript, from the issuer's
// address alone. The packages are the console's.
//
// Usage: node verify.mjs ISSUER AUDIENCE < TOKEN. Prints the claims as JSON, or the reason of the refusal with status 1.
import { readFileSync } from "node:fs";
import { createRequire } from "node:module";
import { pathToFileURL } from "node:url";

const packages = createRequire(new URL("../../../../console/package.json", import.meta.url));
const load = (name) => import(pathToFileURL(packages.resolve(name)).href);
const [client, jose] = await Promise.all([load("openid-client"), load("jose")]);

const [issuer, audience] = process.argv.slice(2);
const token = readFileSync(0, "utf8").trim();
const found = await client.discovery(new URL(issuer), "verifier", undefined, undefined, {
  execute: [client.allowInsecureRequests],
});
const metadata = found.serverMetadata();
try {
  const keys = jose.createRemoteJWKSet(new URL(metadata.jwks_uri));
  const { payload } = await jose.jwtVerify(token, keys, { issuer: metadata.issuer, audience });
  console.log(JSON.stringify(payload));
} catch (error) {
  console.log(`${error.code}: ${error.message}`);
  process.exit(1);
}
