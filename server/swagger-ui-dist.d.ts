declare module 'swagger-ui-dist' { const it: { absolutePath(): string }; export default it; }
