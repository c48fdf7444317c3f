// Reads an HTTP Archive from standard input and says whether it is one, by the published schema.
import { createRequire } from "node:module";
import { readFileSync } from "node:fs";
import Ajv from "ajv";

const require = createRequire(import.meta.url);
const schemas = require("har-schema");
const ajv = new Ajv();
ajv.addMetaSchema(require("ajv/lib/refs/json-schema-draft-06.json"));
ajv.addSchema(Object.values(schemas));
const valid = ajv.validate("har.json#", JSON.parse(readFileSync(0, "utf8")));
if (!valid) {
  console.log(JSON.stringify(ajv.errors, null, 2));
  process.exit(1);
}
