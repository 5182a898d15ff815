import hooks from 'eslint-plugin-react-hooks';
import typescript from 'typescript-eslint';

export default typescript.config(...typescript.configs.strict, hooks.configs.flat.recommended, {
  rules: { '@typescript-eslint/no-non-null-assertion': 'error' },
});
