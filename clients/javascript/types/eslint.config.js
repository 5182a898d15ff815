import plugin from '@graphql-eslint/eslint-plugin';

export default [
  {
    files: ['**/*.graphql'],
    languageOptions: { parser: plugin.parser, parserOptions: { graphQLConfig: { schema: './schema.graphql' } } },
    plugins: { '@graphql-eslint': plugin },
    rules: {
      '@graphql-eslint/description-style': ['error', { style: 'inline' }],
      '@graphql-eslint/known-type-names': 'error',
      '@graphql-eslint/naming-convention': [
        'error',
        { types: 'PascalCase', FieldDefinition: 'camelCase', InputValueDefinition: 'camelCase', Argument: 'camelCase', EnumValueDefinition: 'UPPER_CASE' },
      ],
      '@graphql-eslint/no-typename-prefix': 'off',
      '@graphql-eslint/no-unreachable-types': 'error',
      '@graphql-eslint/require-deprecation-reason': 'error',
      '@graphql-eslint/require-description': ['error', { types: true, FieldDefinition: true, InputValueDefinition: true, EnumValueDefinition: true, rootField: true }],
      '@graphql-eslint/unique-type-names': 'error',
    },
  },
];
