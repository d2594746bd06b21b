// An OpenID provider of somebody else's, as the issuer of a workload's tokens: `node issuer.mjs PORT`.
import { exportJWK, generateKeyPair } from 'jose';
import Provider from 'oidc-provider';

const port = Number(process.argv[2]);
const issuer = `http://127.0.0.1:${port}`;
const { privateKey } = await generateKeyPair('RS256', { extractable: true });
const provider = new Provider(issuer, {
  jwks: { keys: [{ ...await exportJWK(privateKey), kid: 'k1', alg: 'RS256', use: 'sig' }] },
  clients: ['reader', 'clerk'].map((name) => ({
    client_id: name, client_secret: `${name}-secret`, grant_types: ['client_credentials'], redirect_uris: [], response_types: [],
  })),
  features: {
    clientCredentials: { enabled: true },
    devInteractions: { enabled: false },
    resourceIndicators: {
      enabled: true,
      getResourceServerInfo: (context, resource) => ({ scope: 'masts', audience: resource, accessTokenFormat: 'jwt', accessTokenTTL: 600 }),
    },
  },
  formats: { customizers: { jwt: (context, token, jwt) => { jwt.header = { ...jwt.header, typ: 'JWT' }; } } },
  extraTokenClaims: () => ({ account: '4712', tags: ['masts'] }),
});
provider.listen(port, '127.0.0.1', () => console.log('ready'));
