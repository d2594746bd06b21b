// An OAuth client of somebody else's at a token endpoint: `node client.mjs ISSUER TOKEN-FILE TRUST PRINCIPAL` exchanges a token.
import { readFileSync } from 'node:fs';
import * as oauth from 'openid-client';

const [issuer, file, audience, principal] = process.argv.slice(2);
const found = await oauth.discovery(new URL(issuer), 'workload', undefined, oauth.None(), {
  algorithm: 'oauth2', execute: [oauth.allowInsecureRequests],
});
try {
  const answer = await oauth.genericGrantRequest(found, 'urn:ietf:params:oauth:grant-type:token-exchange', {
    subject_token: readFileSync(file, 'utf8').trim(), subject_token_type: 'urn:ietf:params:oauth:token-type:jwt', audience, act_as: principal,
  });
  console.log(JSON.stringify({ type: answer.token_type, lives: answer.expires_in, issued: answer.issued_token_type }));
} catch (problem) {
  console.log(JSON.stringify({ error: problem.error ?? String(problem) }));
}
