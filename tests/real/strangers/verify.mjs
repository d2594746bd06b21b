// A JOSE library of somebody else's reads an assertion: `node verify.mjs TOKEN-FILE JWK-FILE AUDIENCE`.
import { readFileSync } from 'node:fs';
import { importJWK, jwtVerify } from 'jose';

const [token, key, audience] = process.argv.slice(2);
const read = await jwtVerify(readFileSync(token, 'utf8').trim(), await importJWK(JSON.parse(readFileSync(key, 'utf8')), 'EdDSA'), { audience });
console.log(JSON.stringify({ header: read.protectedHeader, claims: read.payload }));
