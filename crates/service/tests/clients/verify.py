"""Verifies a job's identity token as an outside service would: with PyJWT, from the issuer's address alone.

Usage: verify.py ISSUER AUDIENCE < TOKEN. Prints the claims as JSON, or the reason of the refusal with status 1.
"""
import json
import sys
import urllib.request

import jwt

issuer, audience = sys.argv[1:]
token = sys.stdin.read().strip()
with urllib.request.urlopen(issuer + "/.well-known/openid-configuration") as answer:
    metadata = json.load(answer)
try:
    key = jwt.PyJWKClient(metadata["jwks_uri"]).get_signing_key_from_jwt(token)
    claims = jwt.decode(
        token,
        key.key,
        algorithms=metadata["id_token_signing_alg_values_supported"],
        audience=audience,
        issuer=metadata["issuer"],
        options={"require": ["exp", "iat", "nbf", "iss", "aud", "sub"]},
    )
except jwt.PyJWTError as error:
    print(f"{type(error).__name__}: {error}")
    sys.exit(1)
print(json.dumps(claims))
