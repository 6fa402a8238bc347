using System;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Umbrek.Service.Storage.Migrations.Postgres
{
    /// <inheritdoc />
    public partial class KeysAndSignIns : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<Guid>(
                name: "DeviceId",
                table: "SignIns",
                type: "uuid",
                nullable: true);

            migrationBuilder.AlterColumn<string>(
                name: "Protected",
                table: "Secrets",
                type: "text",
                nullable: true,
                oldClrType: typeof(string),
                oldType: "text");

            migrationBuilder.AlterColumn<Guid>(
                name: "HostId",
                table: "Secrets",
                type: "uuid",
                nullable: true,
                oldClrType: typeof(Guid),
                oldType: "uuid");

            migrationBuilder.AddColumn<DateTimeOffset>(
                name: "ChangedAt",
                table: "Secrets",
                type: "timestamp with time zone",
                nullable: false,
                defaultValue: new DateTimeOffset(new DateTime(1, 1, 1, 0, 0, 0, 0, DateTimeKind.Unspecified), new TimeSpan(0, 0, 0, 0, 0)));

            migrationBuilder.AddColumn<string>(
                name: "ChangedBy",
                table: "Secrets",
                type: "text",
                nullable: false,
                defaultValue: "");

            migrationBuilder.AddColumn<Guid>(
                name: "GroupId",
                table: "Secrets",
                type: "uuid",
                nullable: true);

            migrationBuilder.AddColumn<string>(
                name: "Name",
                table: "Secrets",
                type: "text",
                nullable: false,
                defaultValue: "");

            migrationBuilder.AddColumn<string>(
                name: "Note",
                table: "Secrets",
                type: "text",
                nullable: true);

            migrationBuilder.AddColumn<int>(
                name: "Number",
                table: "Secrets",
                type: "integer",
                nullable: false,
                defaultValue: 0);

            migrationBuilder.AddColumn<string>(
                name: "UserName",
                table: "Secrets",
                type: "text",
                nullable: true);

            migrationBuilder.AddColumn<long>(
                name: "Version",
                table: "Secrets",
                type: "bigint",
                nullable: false,
                defaultValue: 0L);

            migrationBuilder.AddColumn<bool>(
                name: "UsesVault",
                table: "Jobs",
                type: "boolean",
                nullable: false,
                defaultValue: false);

            migrationBuilder.CreateTable(
                name: "Devices",
                columns: table => new
                {
                    Id = table.Column<Guid>(type: "uuid", nullable: false),
                    TechnicianId = table.Column<Guid>(type: "uuid", nullable: false),
                    Sha256 = table.Column<byte[]>(type: "bytea", nullable: false),
                    Device = table.Column<string>(type: "text", nullable: false),
                    Address = table.Column<string>(type: "text", nullable: true),
                    FirstSeenAt = table.Column<DateTimeOffset>(type: "timestamp with time zone", nullable: false),
                    LastSeenAt = table.Column<DateTimeOffset>(type: "timestamp with time zone", nullable: false),
                    Confirmed = table.Column<bool>(type: "boolean", nullable: false),
                    FactorUntil = table.Column<DateTimeOffset>(type: "timestamp with time zone", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Devices", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Devices_AspNetUsers_TechnicianId",
                        column: x => x.TechnicianId,
                        principalTable: "AspNetUsers",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "KeyRotations",
                columns: table => new
                {
                    Id = table.Column<Guid>(type: "uuid", nullable: false),
                    Selection = table.Column<string>(type: "text", nullable: false),
                    EndSessions = table.Column<bool>(type: "boolean", nullable: false),
                    IsOver = table.Column<bool>(type: "boolean", nullable: false),
                    CreatedAt = table.Column<DateTimeOffset>(type: "timestamp with time zone", nullable: false),
                    CreatedById = table.Column<Guid>(type: "uuid", nullable: false),
                    CreatedBy = table.Column<string>(type: "text", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_KeyRotations", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "Passkeys",
                columns: table => new
                {
                    CredentialId = table.Column<byte[]>(type: "bytea", maxLength: 1024, nullable: false),
                    UserId = table.Column<Guid>(type: "uuid", nullable: false),
                    Data = table.Column<string>(type: "jsonb", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Passkeys", x => x.CredentialId);
                    table.ForeignKey(
                        name: "FK_Passkeys_AspNetUsers_UserId",
                        column: x => x.UserId,
                        principalTable: "AspNetUsers",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "Sessions",
                columns: table => new
                {
                    Id = table.Column<Guid>(type: "uuid", nullable: false),
                    HostId = table.Column<Guid>(type: "uuid", nullable: false),
                    TechnicianId = table.Column<Guid>(type: "uuid", nullable: false),
                    Technician = table.Column<string>(type: "text", nullable: false),
                    Address = table.Column<string>(type: "text", nullable: true),
                    Reason = table.Column<string>(type: "text", nullable: true),
                    OpenedAt = table.Column<DateTimeOffset>(type: "timestamp with time zone", nullable: false),
                    EndedAt = table.Column<DateTimeOffset>(type: "timestamp with time zone", nullable: true),
                    EndReason = table.Column<string>(type: "text", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Sessions", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Sessions_Hosts_HostId",
                        column: x => x.HostId,
                        principalTable: "Hosts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "VaultKeys",
                columns: table => new
                {
                    Id = table.Column<Guid>(type: "uuid", nullable: false),
                    Protected = table.Column<string>(type: "text", nullable: false),
                    CreatedAt = table.Column<DateTimeOffset>(type: "timestamp with time zone", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_VaultKeys", x => x.Id);
                });

            migrationBuilder.CreateTable(
                name: "KeyRotationHosts",
                columns: table => new
                {
                    RotationId = table.Column<Guid>(type: "uuid", nullable: false),
                    HostId = table.Column<Guid>(type: "uuid", nullable: false),
                    State = table.Column<int>(type: "integer", nullable: false),
                    Reason = table.Column<string>(type: "text", nullable: true),
                    At = table.Column<DateTimeOffset>(type: "timestamp with time zone", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_KeyRotationHosts", x => new { x.RotationId, x.HostId });
                    table.ForeignKey(
                        name: "FK_KeyRotationHosts_KeyRotations_RotationId",
                        column: x => x.RotationId,
                        principalTable: "KeyRotations",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "SecretTexts",
                columns: table => new
                {
                    SecretId = table.Column<Guid>(type: "uuid", nullable: false),
                    Number = table.Column<int>(type: "integer", nullable: false),
                    KeyId = table.Column<Guid>(type: "uuid", nullable: false),
                    Cipher = table.Column<byte[]>(type: "bytea", nullable: false),
                    IsProposed = table.Column<bool>(type: "boolean", nullable: false),
                    CreatedAt = table.Column<DateTimeOffset>(type: "timestamp with time zone", nullable: false),
                    CreatedBy = table.Column<string>(type: "text", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_SecretTexts", x => new { x.SecretId, x.Number });
                    table.ForeignKey(
                        name: "FK_SecretTexts_Secrets_SecretId",
                        column: x => x.SecretId,
                        principalTable: "Secrets",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                    table.ForeignKey(
                        name: "FK_SecretTexts_VaultKeys_KeyId",
                        column: x => x.KeyId,
                        principalTable: "VaultKeys",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Restrict);
                });

            migrationBuilder.CreateIndex(
                name: "IX_Secrets_GroupId",
                table: "Secrets",
                column: "GroupId");

            migrationBuilder.CreateIndex(
                name: "IX_Devices_TechnicianId_Sha256",
                table: "Devices",
                columns: new[] { "TechnicianId", "Sha256" },
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_KeyRotationHosts_HostId_State",
                table: "KeyRotationHosts",
                columns: new[] { "HostId", "State" });

            migrationBuilder.CreateIndex(
                name: "IX_KeyRotations_IsOver",
                table: "KeyRotations",
                column: "IsOver");

            migrationBuilder.CreateIndex(
                name: "IX_Passkeys_UserId",
                table: "Passkeys",
                column: "UserId");

            migrationBuilder.CreateIndex(
                name: "IX_SecretTexts_KeyId",
                table: "SecretTexts",
                column: "KeyId");

            migrationBuilder.CreateIndex(
                name: "IX_Sessions_EndedAt",
                table: "Sessions",
                column: "EndedAt");

            migrationBuilder.CreateIndex(
                name: "IX_Sessions_HostId_OpenedAt",
                table: "Sessions",
                columns: new[] { "HostId", "OpenedAt" });

            migrationBuilder.AddForeignKey(
                name: "FK_Secrets_Groups_GroupId",
                table: "Secrets",
                column: "GroupId",
                principalTable: "Groups",
                principalColumn: "Id",
                onDelete: ReferentialAction.Restrict);
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropForeignKey(
                name: "FK_Secrets_Groups_GroupId",
                table: "Secrets");

            migrationBuilder.DropTable(
                name: "Devices");

            migrationBuilder.DropTable(
                name: "KeyRotationHosts");

            migrationBuilder.DropTable(
                name: "Passkeys");

            migrationBuilder.DropTable(
                name: "SecretTexts");

            migrationBuilder.DropTable(
                name: "Sessions");

            migrationBuilder.DropTable(
                name: "KeyRotations");

            migrationBuilder.DropTable(
                name: "VaultKeys");

            migrationBuilder.DropIndex(
                name: "IX_Secrets_GroupId",
                table: "Secrets");

            migrationBuilder.DropColumn(
                name: "DeviceId",
                table: "SignIns");

            migrationBuilder.DropColumn(
                name: "ChangedAt",
                table: "Secrets");

            migrationBuilder.DropColumn(
                name: "ChangedBy",
                table: "Secrets");

            migrationBuilder.DropColumn(
                name: "GroupId",
                table: "Secrets");

            migrationBuilder.DropColumn(
                name: "Name",
                table: "Secrets");

            migrationBuilder.DropColumn(
                name: "Note",
                table: "Secrets");

            migrationBuilder.DropColumn(
                name: "Number",
                table: "Secrets");

            migrationBuilder.DropColumn(
                name: "UserName",
                table: "Secrets");

            migrationBuilder.DropColumn(
                name: "Version",
                table: "Secrets");

            migrationBuilder.DropColumn(
                name: "UsesVault",
                table: "Jobs");

            migrationBuilder.AlterColumn<string>(
                name: "Protected",
                table: "Secrets",
                type: "text",
                nullable: false,
                defaultValue: "",
                oldClrType: typeof(string),
                oldType: "text",
                oldNullable: true);

            migrationBuilder.AlterColumn<Guid>(
                name: "HostId",
                table: "Secrets",
                type: "uuid",
                nullable: false,
                defaultValue: new Guid("00000000-0000-0000-0000-000000000000"),
                oldClrType: typeof(Guid),
                oldType: "uuid",
                oldNullable: true);
        }
    }
}
